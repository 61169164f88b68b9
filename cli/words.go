package cli

import (
	"fmt"
	"strings"
	"time"

	"yardtide/core/gate"
	"yardtide/core/plan"
	"yardtide/core/words"
)

// This file turns values into the words of the terminal.

func bytes(n int64) string { return words.Bytes(n) }

// plain is a name on one line, as a printer lets it through: so it can be measured.
func plain(s string) string {
	return strings.Map(func(r rune) rune {
		if !shows(r) {
			return hidden
		}
		return r
	}, strings.ToValidUTF8(s, string(hidden)))
}

// plainLines is plain for a text of several lines.
func plainLines(s string) string {
	lines := strings.Split(s, "\n")
	for i, line := range lines {
		lines[i] = plain(line)
	}
	return strings.Join(lines, "\n")
}

// when is a time near now: the clock today, with the day otherwise.
func when(t, now time.Time) string {
	t, now = t.Local(), now.Local()
	switch {
	case t.IsZero():
		return ""
	case t.YearDay() == now.YearDay() && t.Year() == now.Year():
		if t.Second() == 0 {
			return t.Format("15:04")
		}
		return t.Format("15:04:05")
	case t.After(now) && t.Sub(now) < 7*24*time.Hour:
		return t.Format("Mon 15:04")
	}
	return t.Format("2 Jan 2006 15:04")
}

// opens tells when a hold opens, if that is known.
func opens(h gate.Hold, now time.Time) string {
	switch {
	case h.You:
		return "needs you"
	case h.Opens.IsZero():
		return ""
	}
	return "until " + when(h.Opens, now)
}

func conditions(c gate.Conditions) string {
	parts := []string{"on " + c.Network.Label()}
	if c.Network == plan.NoNetwork {
		parts[0] = "no network"
	}
	if c.NetworkName != "" {
		parts[0] += " " + c.NetworkName
	}
	known := c.Network != plan.NoNetwork && c.Network != plan.UnknownNetwork
	switch {
	case !known:
	case c.Roaming == gate.Yes:
		parts = append(parts, "roaming")
	case c.Roaming != gate.No:
		parts = append(parts, "roaming not known")
	}
	switch {
	case !known || c.Network == plan.Cellular:
	case c.Metered == gate.Yes:
		parts = append(parts, "metered")
	case c.Metered != gate.No:
		parts = append(parts, "metered or not is not known")
	}
	if c.Battery >= 0 {
		parts = append(parts, fmt.Sprintf("battery %d%%", c.Battery))
	}
	switch {
	case c.Charging != gate.Yes && c.Charging != gate.No:
		parts = append(parts, "power not known")
	case c.Battery < 0:
		parts = append(parts, "mains")
	case c.Charging == gate.Yes:
		parts = append(parts, "charging")
	}
	return strings.Join(parts, ", ")
}

func count(n int64, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return words.Count(n) + " " + one + "s"
}

// listOf are the words of a flag that takes several, with commas.
func listOf(text string) []string {
	list := []string{}
	for word := range strings.SplitSeq(text, ",") {
		if word = strings.TrimSpace(word); word != "" {
			list = append(list, word)
		}
	}
	return list
}

// short is a time span of a rough size: "40 s", "12 min", "3 h".
func short(d time.Duration) string {
	switch {
	case d < 100*time.Second:
		return fmt.Sprintf("%d s", max(1, int(d.Seconds())))
	case d < 100*time.Minute:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h", int(d.Hours()))
	}
	return fmt.Sprintf("%d days", int(d.Hours()/24))
}
