package plan

import (
	"cmp"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
)

// This file reads the small languages inside the plan: sizes, hours, power.
// Each parser returns an error that says what would be right.

var (
	AllowanceForm = regexp.MustCompile(`^\s*([0-9][0-9.]*\s*[A-Za-z]+)\s+per\s+(day|week|month(?: from day ([0-9]{1,2}))?)\s*$`)
	SizeForm      = regexp.MustCompile(`^\s*[0-9][0-9.]*\s*[A-Za-z]+\s*$`)
	windowForm    = regexp.MustCompile(`^\s*(?:([a-z]{3})(?:\s*[-–]\s*([a-z]{3}))?\s+)?([0-9]{1,2}):([0-9]{2})\s*[-–]\s*([0-9]{1,2}):([0-9]{2})\s*$`)
	PowerForm     = regexp.MustCompile(`^\s*(?:(charging)(?:\s+for\s+([0-9]{1,4})\s*min)?(?:\s+(or|and)\s+at least\s+([0-9]{1,3})\s*%)?|at least\s+([0-9]{1,3})\s*%)\s*$`)
	DateForm      = regexp.MustCompile(`^[0-9]{4}-[0-9]{2}-[0-9]{2}$`)
	MinutesForm   = regexp.MustCompile(`^\s*([0-9]{1,5})\s*min\s*$`)
	DaysForm      = regexp.MustCompile(`^\s*([0-9]{1,3})\s*days?\s*$`)
	placeholder   = regexp.MustCompile(`\{([^{}]*)\}`)
	nameForm      = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,62}$`)
)

// IsName tells whether a device, a destination or a rule may be called so.
func IsName(name string) bool { return nameForm.MatchString(name) }

// Mistake is the error of a value of one of the small languages: what is wrong, and what would be right.
type Mistake struct{ What, Would string }

func (m Mistake) Error() string { return m.What + "; " + m.Would }

func wrong(would, format string, args ...any) error {
	return Mistake{fmt.Sprintf(format, args...), would}
}

// ParseAllowance reads "45 MB per day", "2 GB per month from day 15".
func ParseAllowance(s string) (Allowance, error) {
	would := `would be a size and a period, such as "45 MB per day" (day, week, month, or month from day 15)`
	m := AllowanceForm.FindStringSubmatch(s)
	if m == nil {
		return Allowance{}, wrong(would, "%q is not an allowance", s)
	}
	n, err := humanize.ParseBytes(m[1])
	if err != nil || n == 0 || n > 1<<60 {
		return Allowance{}, wrong(would, "%q is not a size", m[1])
	}
	first := 1
	if m[3] != "" {
		first, _ = strconv.Atoi(m[3]) // digits, by the form
	}
	switch {
	case first < 1 || first > lastFirst:
		return Allowance{}, wrong(fmt.Sprintf("would begin on a day that every month has, 1 to %d", lastFirst),
			"a month cannot begin on day %d", first)
	case m[3] != "" && first == 1:
		return Allowance{Bytes: int64(n), Per: Month}, nil
	}
	return Allowance{Bytes: int64(n), Per: Period(m[2])}, nil
}

// ParseSize reads "20 GB".
func ParseSize(s string) (Size, error) {
	n, err := humanize.ParseBytes(s)
	if err != nil || n == 0 || n > 1<<60 || !SizeForm.MatchString(s) {
		return 0, wrong(`would be a size such as "20 GB"`, "%q is not a size", s)
	}
	return Size(n), nil
}

// ParseDate reads "2026-11-25".
func ParseDate(s string) (Date, error) {
	if _, err := time.Parse(time.DateOnly, s); err != nil || !DateForm.MatchString(s) {
		return "", wrong(`would be a day such as "2026-11-25"`, "%q is not a day", s)
	}
	return Date(s), nil
}

// ParseMinutes reads "10 min".
func ParseMinutes(s string) (Minutes, error) {
	m := MinutesForm.FindStringSubmatch(s)
	if m == nil || strings.Trim(m[1], "0") == "" {
		return 0, wrong(`would be minutes such as "10 min"`, "%q is not a length of time", s)
	}
	n, _ := strconv.Atoi(m[1]) // digits, by the form
	return Minutes(n), nil
}

// ParseDays reads "3 days".
func ParseDays(s string) (Days, error) {
	m := DaysForm.FindStringSubmatch(s)
	if m == nil || strings.Trim(m[1], "0") == "" {
		return 0, wrong(`would be days such as "3 days"`, "%q is no number of days", s)
	}
	n, _ := strconv.Atoi(m[1]) // digits, by the form
	return Days(n), nil
}

// String writes it as the plan has it; "" for none.
func (d Days) String() string {
	switch d {
	case 0:
		return ""
	case 1:
		return "1 day"
	}
	return fmt.Sprintf("%d days", int(d))
}

// String writes it as the plan has it; "" for none.
func (m Minutes) String() string {
	if m == 0 {
		return ""
	}
	return fmt.Sprintf("%d min", int64(m))
}

// mostPattern is longer than any path is.
const mostPattern = 4096

// CheckPattern sees that a pattern is one of the gitignore language: a comment and an
// empty line say nothing there, and here were surely meant to.
func CheckPattern(s string) error {
	would := `would be a pattern such as "*.tmp", "Screenshots/" or "!Screenshots/kept.png"`
	switch bare := strings.TrimPrefix(s, "!"); {
	case strings.HasPrefix(s, "#"):
		return wrong(would+`; \\# stands for the sign`, "%q is a comment", s)
	case strings.Trim(bare, "/ ") == "":
		return wrong(would, "%q fits nothing", s)
	case len(s) > mostPattern:
		return wrong(would, "a pattern of %d bytes is too long", len(s))
	}
	for _, part := range strings.Split(s, "/") {
		if _, err := path.Match(part, ""); err != nil {
			return wrong(would, "%q is not a pattern: a bracket is not closed", s)
		}
	}
	return nil
}

// minLimit is the lowest limit: below it, senders that wait for their turn
// would look like a line that went dead.
const minLimit = 50_000

// ParseLimits reads "2 MB/s", or "1 MB/s at 08:00-22:00; 5 MB/s".
func ParseLimits(s string) (Limits, error) {
	would := `would be such as "2 MB/s" or "1 MB/s at 08:00-22:00; 5 MB/s"`
	var limits Limits
	for part := range strings.SplitSeq(s, ";") {
		rate, hours, timed := strings.Cut(part, " at ")
		size, found := strings.CutSuffix(strings.TrimSpace(rate), "/s")
		n, err := ParseSize(size)
		if !found || err != nil {
			return nil, wrong(would, "%q is not a limit", strings.TrimSpace(part))
		}
		if n < minLimit {
			return nil, wrong("would be at least 50 kB/s, or no lane at all", "%q is too slow to send with",
				strings.TrimSpace(rate))
		}
		limit := Limit{Rate: int64(n)}
		if timed {
			if limit.At, err = ParseHours(hours); err != nil {
				return nil, err
			}
		} else if len(limits) > 0 && len(limits[len(limits)-1].At) == 0 {
			return nil, wrong("would have hours on all but the last limit", "the limit before %q is for always",
				strings.TrimSpace(part))
		}
		limits = append(limits, limit)
	}
	return limits, nil
}

// ParseHours reads "06:00-23:00", "mon-fri 22:00-06:00", or several windows with commas between.
func ParseHours(s string) (Hours, error) {
	would := `would be a window such as "06:00-23:00" or "mon-fri 22:00-06:00, sat-sun 00:00-24:00"`
	var hours Hours
	for part := range strings.SplitSeq(s, ",") {
		m := windowForm.FindStringSubmatch(part)
		if m == nil {
			return nil, wrong(would, "%q is not a window of hours", strings.TrimSpace(part))
		}
		var n [4]int
		for i := range n {
			n[i], _ = strconv.Atoi(m[i+3]) // two digits, by the form
		}
		w := Window{Start: n[0]*60 + n[1], End: n[2]*60 + n[3], First: weekday(m[1]), Last: weekday(cmp.Or(m[2], m[1]))}
		if m[1] != "" && (w.First == 0 || w.Last == 0) {
			return nil, wrong("would be of mon, tue, wed, thu, fri, sat and sun, such as mon-fri",
				"%q names no days of the week", strings.TrimSpace(part))
		}
		if n[1] > 59 || n[3] > 59 || w.Start >= 24*60 || w.End > 24*60 {
			return nil, wrong("would run from 00:00 to 24:00", "%q is past the end of the day", strings.TrimSpace(part))
		}
		if w.Start == w.End {
			return nil, wrong(would+", or no hours at all for the whole day", "%q is empty", strings.TrimSpace(part))
		}
		hours = append(hours, w)
	}
	return hours, nil
}

// weekdays are the days of the week as a plan names them.
var weekdays = []string{"mon", "tue", "wed", "thu", "fri", "sat", "sun"}

// weekday is the number of a day of the week, 1 for Monday; 0 for none.
func weekday(name string) int { return slices.Index(weekdays, name) + 1 }

// ParsePower reads "charging", "at least 40%", or both with "or" or "and".
func ParsePower(s string) (Power, error) {
	would := `would be "charging", "charging for 30 min", "at least 40%", "charging or at least 40%" or "charging and at least 20%"`
	m := PowerForm.FindStringSubmatch(s)
	if m == nil {
		return Power{}, wrong(would, "%q is not a power gate", s)
	}
	p := Power{Charging: m[1] != "", Both: m[3] == "and"}
	if m[2] != "" {
		n, _ := strconv.Atoi(m[2]) // digits, by the form
		if p.For = Minutes(n); n == 0 {
			return Power{}, wrong(would, "%q is charging for no time", s)
		}
	}
	if level := m[4] + m[5]; level != "" {
		p.AtLeast, _ = strconv.Atoi(level) // digits, by the form
		if p.AtLeast < 1 || p.AtLeast > 100 {
			return Power{}, wrong("would be from 1% to 100%", "a battery cannot be at %d%%", p.AtLeast)
		}
	}
	return p, nil
}

// LayoutFields are the placeholders a layout can use.
var LayoutFields = []string{"year", "month", "day", "hour", "minute", "second", "name", "caption", "sequence",
	"device", "camera", "source", "folder", "kind"}

// told are the placeholders that tell one item from another of its day: a layout ends with
// one of them.
var told = []string{"name", "caption", "sequence", "second"}

// CheckLayout sees that a layout can be filled. The error says what would be right.
func CheckLayout(s string) error {
	fields := "{" + strings.Join(LayoutFields, "} {") + "}"
	for _, m := range placeholder.FindAllStringSubmatch(s, -1) {
		known := false
		for _, f := range LayoutFields {
			known = known || f == m[1]
		}
		if !known {
			return wrong("would be of "+fields, "the layout has an unknown placeholder {%s}", m[1])
		}
	}
	rest := placeholder.ReplaceAllString(s, "x")
	switch {
	case strings.ContainsAny(rest, "{}"):
		return wrong("would pair every { with a }", "the layout has a loose brace")
	case !tells(s[strings.LastIndex(s, "/")+1:]):
		return wrong("would end with {name}, {caption}, {sequence} or {second} in its last part, such as "+DefaultLayout,
			"the layout %q does not end with what tells one item from another", s)
	case strings.Contains(s[:strings.LastIndex(s, "/")+1], "{name}"):
		return wrong("would have {name} in its last part, such as "+DefaultLayout,
			"the layout %q has the item's name as a folder", s)
	case strings.HasPrefix(s, "/"):
		return wrong("would be relative to the destination, such as "+DefaultLayout, "the layout %q begins with a slash", s)
	}
	for part := range strings.SplitSeq(rest, "/") {
		if part == "" || part == "." || part == ".." || strings.HasPrefix(part, ".") {
			return wrong("would use plain folder names, such as "+DefaultLayout, "the layout %q has an empty or hidden folder",
				s)
		}
	}
	return nil
}

// CheckOwnLayout sees that a layout can be a destination's: what is sent first has no caption
// yet. The error says what would be right.
func CheckOwnLayout(s string) error {
	if strings.Contains(s, "{caption}") {
		return wrong("would stand in the layout of a rule's also",
			"{caption} is for picks: the layout of a destination is for every item")
	}
	return CheckLayout(s)
}

// tells tells whether the last part of a layout tells items apart.
func tells(part string) bool {
	return slices.ContainsFunc(told, func(field string) bool { return strings.Contains(part, "{"+field+"}") })
}

// String writes a size as a plan has it, to the byte; "" for none.
func (n Size) String() string {
	if n == 0 {
		return ""
	}
	for _, unit := range []struct {
		n    Size
		name string
	}{{1e12, "TB"}, {1e9, "GB"}, {1e6, "MB"}, {1e3, "kB"}} {
		if n%unit.n == 0 {
			return fmt.Sprintf("%d %s", n/unit.n, unit.name)
		}
	}
	return fmt.Sprintf("%d B", n)
}
