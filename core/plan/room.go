package plan

import (
	"regexp"
	"strconv"
	"strings"
	"time"
)

// Room is what goes by itself from a device to make room there. The zero value removes nothing.
type Room struct {
	// Free is how much is to be free on each disk; Keep is what stays in any case.
	Free Size `json:"free,omitempty"`
	Keep Keep `json:"keep,omitzero"`
	// Places is at how many places copies are proven before an item goes, Held how long it lies in the holding place.
	Places int  `json:"places,omitempty"`
	Held   Days `json:"held,omitempty"`
}

// On tells whether something goes by itself.
func (r Room) On() bool { return r.Free > 0 || r.Keep.Days > 0 }

// Keep is what stays on a device where items go to make room.
type Keep struct {
	Days  Days `json:"days,omitempty"`  // what was taken in the last days
	Small bool `json:"small,omitempty"` // a smaller one of each that goes
}

// KeepForm is how it is written.
var KeepForm = regexp.MustCompile(`^\s*(?:([0-9]{1,4})\s*days?)?\s*(,)?\s*(small)?\s*$`)

// ParseKeep reads "90 days", "small" or "90 days, small".
func ParseKeep(s string) (Keep, error) {
	would := `would be such as "90 days", "small" or "90 days, small"`
	m := KeepForm.FindStringSubmatch(s)
	if m == nil || (m[2] != "") != (m[1] != "" && m[3] != "") || m[1] == "" && m[3] == "" || m[1] != "" && strings.Trim(m[1], "0") == "" {
		return Keep{}, wrong(would, "%q does not say what stays", s)
	}
	days, _ := strconv.Atoi(m[1]) // digits, or nothing, by the form
	return Keep{Days: Days(days), Small: m[3] != ""}, nil
}

// String writes it as the plan has it; "" for nothing.
func (k Keep) String() string {
	if !k.Small {
		return k.Days.String()
	}
	return strings.TrimPrefix(k.Days.String()+", small", ", ")
}

// Since is from when on what was taken stays, zero where nothing stays for its age.
func (k Keep) Since(now time.Time) time.Time {
	if k.Days == 0 {
		return time.Time{}
	}
	return now.AddDate(0, 0, -int(k.Days))
}
