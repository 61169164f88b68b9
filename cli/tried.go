package cli

import (
	"fmt"
	"slices"
	"strings"

	"yardtide/core/words"
	"yardtide/wire/planwire"
)

// mostPaths is how many items of a kind are named.
const mostPaths = 3

// printTried tells what a plan would do to the yard's items, today's beside it.
func printTried(p page, t planwire.PlanTried) {
	var same []string
	for _, d := range t.Devices {
		if len(d.New)+len(d.Left)+len(d.Unknown) == 0 && d.Uncounted.N == 0 && slices.Equal(d.Today, d.Then) {
			same = append(same, d.Device)
			continue
		}
		p.head("On " + d.Device)
		if len(d.New)+len(d.Left) == 0 {
			p.line(2, "The same items are taken up as today.")
		}
		for _, k := range d.New {
			p.line(2, "+ newly taken up: %s, %s%s", count(k.N, k.Kind.Singular()), bytes(k.Bytes), p.paint(quiet, firstOf(k)))
		}
		for _, k := range d.Left {
			p.line(2, "- left out: %s, %s. %s%s", count(k.N, k.Kind.Singular()), bytes(k.Bytes), plain(k.Why),
				p.paint(quiet, firstOf(k)))
		}
		if d.Uncounted.N > 0 {
			p.line(2, "%s %s, %s, count as safe today, and would not until they are everywhere that the plan asks for.",
				p.paint(asks, "!"), count(d.Uncounted.N, "file"), bytes(d.Uncounted.Bytes))
		}
		for _, u := range d.Unknown {
			p.line(2, "%s is not known yet: yardtide look %s -device %s tells what is in it.", plain(u), plain(u), d.Device)
		}
		printWays(p, "today", d.Today)
		printWays(p, "then", d.Then)
	}
	if len(same) > 0 {
		p.space()
		p.line(0, "Nothing changes on %s.", words.And(same))
	}
	if len(t.Places) > 0 {
		p.head("Where it goes")
	}
	for _, at := range t.Places {
		mark := " "
		if !at.Fits {
			mark = p.paint(asks, "!")
		}
		p.line(2, "%s %s", mark, at.Says)
	}
}

func printWays(p page, when string, ways []planwire.TriedWay) {
	if len(ways) == 0 {
		p.line(2, "%-5s  nothing is to come", when)
	}
	for i, w := range ways {
		if i > 0 {
			when = ""
		}
		p.line(2, "%-5s  %s, %s: %s", when, copies(w.N), bytes(w.Bytes), plain(w.Says))
	}
}

func copies(n int64) string {
	if n == 1 {
		return "1 copy"
	}
	return words.Count(n) + " copies"
}

// firstOf are the first items of a kind.
func firstOf(k planwire.TriedKind) string {
	names := k.Paths[:min(len(k.Paths), mostPaths)]
	if len(names) == 0 {
		return ""
	}
	dots := ""
	if int64(len(names)) < k.N {
		dots = " …"
	}
	return fmt.Sprintf(" (%s%s)", plain(strings.Join(names, ", ")), dots)
}
