// Package plan knows what a plan says: destinations, devices, sources, rules, renditions, and the small languages
// of their values. It knows neither the text of a plan (core/plantext reads, checks and changes it) nor how a plan
// is carried out (core/gate and the engine read its values). Everybody may call it.
package plan

import (
	"fmt"
	"net/url"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"yardtide/core/media"
)

// Plan is a whole, checked plan: every name in it points somewhere.
type Plan struct {
	// Format is 2 where photo means photos alone. Before that was told apart, photo
	// was the word for every picture: raw files and graphics, too.
	Format       int                    `json:"format,omitempty"`
	Yard         string                 `json:"yard"`
	Timezone     string                 `json:"timezone"`
	Destinations map[string]Destination `json:"destinations"`
	Devices      map[string]Device      `json:"devices"`
	Rules        map[string]Rule        `json:"rules"`
	// HomeNetworks are the names of the Wi-Fi networks at home, People whose devices they
	// are, SilentAfter how long a device may say nothing before the keeper is told.
	HomeNetworks []string `json:"home-networks,omitempty"`
	People       []string `json:"people,omitempty"`
	// Renditions are the forms, other than as shot, in which items may be sent.
	Renditions  map[string]Rendition `json:"renditions,omitempty"`
	SilentAfter Days                 `json:"silent-after,omitempty"`
}

// Days is a number of days, written as "3 days".
type Days int

// DefaultSilentAfter is how long a device may be silent in a plan that says nothing of it.
const DefaultSilentAfter = Days(3)

// SilentAfterOrDefault is how long a device may be silent.
func (p *Plan) SilentAfterOrDefault() time.Duration {
	days := p.SilentAfter
	if days == 0 {
		days = DefaultSilentAfter
	}
	return time.Duration(days) * 24 * time.Hour
}

// DestinationKind names a driver.
type DestinationKind string

// The kinds of storage a plan can name.
const (
	Folder DestinationKind = "folder"
	WebDAV DestinationKind = "webdav"
	SFTP   DestinationKind = "sftp"
	S3     DestinationKind = "s3"
)

// Destination is one storage. It never holds a secret: PasswordFrom says where
// the service finds it.
type Destination struct {
	Kind         DestinationKind `json:"kind"`
	Path         string          `json:"path,omitempty"`
	Address      string          `json:"address,omitempty"`
	HostKey      string          `json:"host-key,omitempty"`
	URL          string          `json:"url,omitempty"`
	Bucket       string          `json:"bucket,omitempty"`
	Region       string          `json:"region,omitempty"`
	Authority    string          `json:"authority,omitempty"`
	Certificate  string          `json:"certificate,omitempty"`
	User         string          `json:"user,omitempty"`
	PasswordFrom Secret          `json:"password-from,omitempty"`
	KeyFrom      Secret          `json:"key-from,omitempty"`
	Layout       string          `json:"layout,omitempty"`
	Senders      int             `json:"senders,omitempty"`
	// KeepFree is room that is never filled; Size is how much it holds in all,
	// for storage that does not tell its space.
	KeepFree Size `json:"keep-free,omitempty"`
	Size     Size `json:"size,omitempty"`
}

// Size is a number of bytes, written as "20 GB".
type Size int64

// Minutes is how long a clip lasts, written as "10 min".
type Minutes int64

// DefaultLayout is used by a destination that names none.
const DefaultLayout = "{year}/{month}/{name}"

// DefaultSenders is how many copies a device sends at once to a destination
// that says nothing of it.
const DefaultSenders = 4

// SendersOrDefault is how many copies each device sends there at once.
func (d Destination) SendersOrDefault() int {
	if d.Senders == 0 {
		return DefaultSenders
	}
	return d.Senders
}

// Networked tells whether copies to it cross a network: only then do network
// gates apply and can bytes be metered.
func (d Destination) Networked() bool { return d.Kind != Folder }

// Server is the server that a destination's secrets are shown to, "" for a
// folder: who answers at another one must not get them.
func (d Destination) Server() string {
	switch d.Kind {
	case SFTP:
		return "ssh://" + strings.ToLower(d.Address)
	case WebDAV, S3:
		if u, err := url.Parse(d.URL); err == nil {
			return strings.ToLower(u.Scheme + "://" + u.Host)
		}
		return d.URL
	}
	return ""
}

// Where is the address of a destination's place, for people and to tell whether
// a name has come to stand for another one: written in one way, whatever way the
// plan writes it.
func (d Destination) Where() string {
	switch d.Kind {
	case Folder:
		return path.Clean(d.Path)
	case SFTP:
		return d.User + "@" + strings.ToLower(d.Address) + ":" + strings.TrimSuffix(d.Path, "/")
	}
	where := d.Server()
	if u, err := url.Parse(d.URL); err == nil {
		where += u.EscapedPath()
	}
	for _, part := range []string{d.Bucket, d.Path} { // of s3
		if part = strings.Trim(part, "/"); part != "" {
			where = strings.TrimSuffix(where, "/") + "/" + part
		}
	}
	return strings.TrimSuffix(where, "/")
}

// Secret says where a secret is kept: "kept:NAME" (encrypted in the service's
// data directory), "env:NAME" or "file:/absolute/path".
type Secret string

// Device is a phone or computer with its sources.
type Device struct {
	Timezone string `json:"timezone,omitempty"`
	Person   string `json:"person,omitempty"`
	// UnknownNetwork says what a network is taken for of which the device cannot tell
	// what it is.
	UnknownNetwork UnknownAs `json:"unknown-network,omitempty"`
	// InFrontOnly tells that its system lets the program work only while it is open.
	InFrontOnly bool `json:"in-front-only,omitempty"`
	// Awake keeps its system from sleeping, where AwakeWhen allows it.
	Awake     Awake    `json:"awake,omitempty"`
	AwakeWhen Gates    `json:"awake-when,omitzero"`
	Limit     Limits   `json:"limit,omitempty"`
	Sources   []Source `json:"sources"`
	// LetBe are folders whose pictures and clips are not taken up, on purpose.
	LetBe []string `json:"let-be,omitempty"`
	// NewFolders is what is done with folders of pictures that appear beside the sources: "" asks, LeaveFolders leaves
	// them, any other is the rule that takes them up.
	NewFolders string `json:"new-folders,omitempty"`
	// Cards are the answers about volumes that come and go, by their identities.
	Cards map[string]Card `json:"cards,omitempty"`
	// Room is what goes from it by itself, once it is proven elsewhere.
	Room Room `json:"room,omitzero"`
	// Rules is what this device says of rules itself.
	Rules map[string]Override `json:"rules,omitempty"`
}

// LeaveFolders leaves folders that appear, and does not ask about them.
const LeaveFolders = "leave"

// Override is what a device has otherwise than a rule says: its lanes, when there are
// some, and the gates that it names.
type Override struct {
	Lanes []Lane `json:"lanes,omitempty"`
	Gates Gates  `json:"gates,omitzero"`
}

// Source is a folder on a device, what of it is taken up, and the rules that its items
// follow: the first that takes an item counts.
type Source struct {
	Folder string   `json:"folder"`
	Rules  []string `json:"rules"`
	Scope
}

// Rule is how the items of a source are treated.
type Rule struct {
	Take []media.Kind `json:"take"`
	// With one of these only longer or larger files are taken; with both, one is enough.
	LargerThan Size    `json:"larger-than,omitempty"`
	LongerThan Minutes `json:"longer-than,omitempty"`
	// Send is in which form the kinds go that are not sent as shot.
	Send map[media.Kind]string `json:"send,omitempty"`
	// Companions are those that go with what the rule takes; nil for those whose kind it
	// takes, and sidecars.
	Companions []media.Companion `json:"companions,omitempty"`
	// Previews and Also are put beside the copies.
	Previews string `json:"previews,omitempty"`
	Also     []Also `json:"also,omitempty"`
	// Bursts has a moving picture made of shots in a row.
	Bursts bool `json:"bursts,omitempty"`
	// OnClash is what happens where something else has the name.
	OnClash Clash    `json:"on-clash,omitempty"`
	To      []string `json:"to"`
	// As is the form of the copies at a destination, where it has one of its own: a rendition, or AsShot.
	As    map[string]string `json:"as,omitempty"`
	Lanes []Lane            `json:"lanes"`
	Gates Gates             `json:"gates,omitzero"`
	Order Order             `json:"order,omitempty"`
	// Versions is which versions of an edited file are asked for.
	Versions Versions `json:"versions,omitempty"`
	// StoreEach stores equal files from several places each under a name of its
	// own; otherwise a destination holds the same bytes once.
	StoreEach bool `json:"store-each,omitempty"`
}

// Order is what of a rule's items goes first.
type Order string

// The orders a rule can name.
const (
	NewestFirst   Order = "newest"
	OldestFirst   Order = "oldest"
	SmallestFirst Order = "smallest"
)

// Versions is which versions of a file that is edited on its device are asked for. What lies at a place stays there.
type Versions string

// Every version that was sent is kept count of, or the newest alone.
const (
	KeepVersions  Versions = "keep"
	NewestVersion Versions = "newest"
)

// Limits are how fast a device may send, over all its destinations. The first
// one whose hours it is counts; without one there is no limit.
type Limits []Limit

// Limit is one limit in bytes a second, for some hours or for always.
type Limit struct {
	Rate int64
	At   Hours
}

// String writes limits as the plan has them; "" for none.
func (l Limits) String() string {
	parts := make([]string, len(l))
	for i, one := range l {
		parts[i] = Size(one.Rate).String() + "/s"
		if len(one.At) > 0 {
			parts[i] += " at " + one.At.String()
		}
	}
	return strings.Join(parts, "; ")
}

// RateAt is the limit at a time in bytes a second, 0 without one.
func (l Limits) RateAt(t time.Time, zone *time.Location) int64 {
	for _, one := range l {
		if len(one.At) == 0 || one.At.At(t.In(zone)) {
			return one.Rate
		}
	}
	return 0
}

// Lane is one allowed way to send, over one kind of network.
type Lane struct {
	Over      Network      `json:"over"`
	Take      []media.Kind `json:"take,omitempty"`
	Allowance Allowance    `json:"allowance,omitzero"`
	Metered   bool         `json:"metered,omitempty"`
	Roaming   bool         `json:"roaming,omitempty"`
	// Send is the rendition of quick copies: the lane carries them and nothing else.
	Send string `json:"send,omitempty"`
	// RoamingAllowance is what may be spent of the allowance while roaming.
	RoamingAllowance Allowance `json:"roaming-allowance,omitzero"`
	// MeteredWiFi has a Wi-Fi that is metered count as cellular.
	MeteredWiFi bool `json:"metered-wifi,omitempty"`
	// Named are the only networks that it is open on, NotNamed those that it is not.
	Named    []string `json:"named,omitempty"`
	NotNamed []string `json:"not-named,omitempty"`
	HomeOnly bool     `json:"home-only,omitempty"`
	Gates    Gates    `json:"gates,omitzero"`
}

// Takes tells whether the lane carries a kind.
func (l Lane) Takes(k media.Kind) bool { return len(l.Take) == 0 || slices.Contains(l.Take, k) }

// Network is the kind of network a device is on.
type Network string

// The kinds of network a device can be on; a lane is over one of the last three.
const (
	UnknownNetwork Network = "unknown" // it cannot be told
	NoNetwork      Network = "none"
	WiFi           Network = "wifi"
	Wired          Network = "wired"
	Cellular       Network = "cellular"
)

// Label is the network's name in a sentence.
func (n Network) Label() string {
	switch n {
	case WiFi:
		return "Wi-Fi"
	case Wired:
		return "a wired network"
	case Cellular:
		return "cellular"
	case NoNetwork:
		return "no network"
	}
	return "an unknown network"
}

// Gates are conditions; a zero gate is not set. One that is set to nothing is open,
// whatever the rule says.
type Gates struct {
	Power Power `json:"power,omitzero"`
	Hours Hours `json:"hours,omitempty"`
	Idle  Idle  `json:"idle,omitzero"`
	// Unused is how long nobody may have used the device; Rest how long it must have been
	// on charge and unused together, as phones are at night.
	Unused Minutes `json:"unused-for,omitempty"`
	Rest   Minutes `json:"rest,omitempty"`
	Screen Switch  `json:"screen,omitempty"`
	Saver  Switch  `json:"battery-saver,omitempty"`

	NoPower, NoHours, NoUnused, NoRest bool `json:"-"` // "any": set to nothing
}

// Switch is a gate on something that is on or off.
type Switch string

// What a switch gate can be, beside unset.
const (
	MustBeOff Switch = "off"
	OnOrOff   Switch = "any" // whatever the rule says
)

// Awake is when a device's system is kept from sleeping.
type Awake string

// AwakeWhileSending keeps it awake while copies go, or are about to.
const AwakeWhileSending Awake = "while sending"

// UnknownAs is what a network counts as of which a device cannot tell what it is.
type UnknownAs string

// AsWiFi is the one thing that it can count as.
const AsWiFi UnknownAs = "treat as wifi"

// Idle is the gate of a device's use.
type Idle int

// The idle gate can be unset, set, or set to nothing.
const (
	IdleUnset  Idle = iota
	MustBeIdle      // true: only while nobody uses the device
	MayBeUsed       // false: also while somebody does
)

// MarshalJSON writes the gate as the plan has it.
func (i Idle) MarshalJSON() ([]byte, error) { return strconv.AppendBool(nil, i == MustBeIdle), nil }

// Under returns the gates with those of a lane put in place of the same-named
// ones.
func (g Gates) Under(lane Gates) Gates {
	if lane.Power != (Power{}) || lane.NoPower {
		g.Power = lane.Power
	}
	if len(lane.Hours) > 0 || lane.NoHours {
		g.Hours = lane.Hours
	}
	if lane.Idle != IdleUnset {
		g.Idle = lane.Idle
	}
	if lane.Unused > 0 || lane.NoUnused {
		g.Unused = lane.Unused
	}
	if lane.Rest > 0 || lane.NoRest {
		g.Rest = lane.Rest
	}
	if lane.Screen != "" {
		g.Screen = lane.Screen
	}
	if lane.Saver != "" {
		g.Saver = lane.Saver
	}
	return g
}

// Power is the power gate. With Both, the charger and the level are needed;
// otherwise either is enough. AtLeast is in percent, 0 when the level does not
// matter.
type Power struct {
	Charging bool
	For      Minutes // on charge for so long
	AtLeast  int
	Both     bool
}

// String writes the gate as the plan has it.
func (p Power) String() string {
	charging, level := "charging", fmt.Sprintf("at least %d%%", p.AtLeast)
	if p.For > 0 {
		charging += " for " + p.For.String()
	}
	switch {
	case p.Charging && p.AtLeast > 0 && p.Both:
		return charging + " and " + level
	case p.Charging && p.AtLeast > 0:
		return charging + " or " + level
	case p.Charging:
		return charging
	case p.AtLeast > 0:
		return level
	}
	return ""
}

// Hours are the windows of the day in which a lane is open.
type Hours []Window

// String writes the hours as the plan has them.
func (h Hours) String() string {
	parts := make([]string, len(h))
	for i, w := range h {
		parts[i] = w.String()
	}
	return strings.Join(parts, ", ")
}

// Window is a span of the day in minutes since midnight on the wall clock. It
// goes over midnight when End is not after Start. End may be 1440.
type Window struct {
	Start, End int
	// First and Last are the days of the week on which it begins, 1 for Monday to 7; 0 for every day.
	First, Last int
}

// String writes the window as "06:00-23:00" or "mon-fri 22:00-06:00".
func (w Window) String() string {
	hours := fmt.Sprintf("%02d:%02d-%02d:%02d", w.Start/60, w.Start%60, w.End/60, w.End%60)
	switch {
	case w.First == 0:
		return hours
	case w.First == w.Last:
		return weekdays[w.First-1] + " " + hours
	}
	return weekdays[w.First-1] + "-" + weekdays[w.Last-1] + " " + hours
}

// Contains tells whether a time of the wall clock lies in the window.
func (w Window) Contains(t time.Time) bool {
	minute, day := t.Hour()*60+t.Minute(), (int(t.Weekday())+6)%7+1
	if w.Start < w.End {
		return w.on(day) && w.Start <= minute && minute < w.End
	}
	dayBefore := (day+5)%7 + 1
	return w.on(day) && minute >= w.Start || w.on(dayBefore) && minute < w.End
}

// on tells whether it begins on a day of the week.
func (w Window) on(day int) bool {
	switch {
	case w.First == 0:
		return true
	case w.First <= w.Last:
		return w.First <= day && day <= w.Last
	}
	return day >= w.First || day <= w.Last // over the end of the week
}

// At tells whether a time of the wall clock lies in one of the windows.
func (h Hours) At(t time.Time) bool {
	return slices.ContainsFunc(h, func(w Window) bool { return w.Contains(t) })
}

// Allowance is how many bytes a lane may spend in a period; zero is no limit.
type Allowance struct {
	Bytes int64
	Per   Period
}

// String writes an allowance as the plan has it; "" for none.
func (a Allowance) String() string {
	if a.Bytes == 0 {
		return ""
	}
	return Size(a.Bytes).String() + " per " + string(a.Per)
}

// Period is the span after which an allowance begins anew, in the device's
// time zone: a calendar day, a week from Monday, a month from its first day or from another
// ("month from day 15").
type Period string

// lastFirst is the last day of the month from which a month may run: every month has it.
const lastFirst = 28

// First is the day of the month with which a month begins; 0 for a period that is none.
func (p Period) First() int {
	if p == Month {
		return 1
	}
	day, is := strings.CutPrefix(string(p), string(Month)+" from day ")
	first, err := strconv.Atoi(day)
	if !is || err != nil {
		return 0
	}
	return first
}

// The periods a plan can name.
const (
	Day   Period = "day"
	Week  Period = "week"
	Month Period = "month"
)

// Zone is the time zone a device's times are decided in.
func (p *Plan) Zone(device string) *time.Location {
	name := p.Timezone
	if own := p.Devices[device].Timezone; own != "" {
		name = own
	}
	zone, err := time.LoadLocation(name)
	if err != nil { // Parse has refused unknown zones; a plan made by hand gets UTC.
		return time.UTC
	}
	return zone
}

// Inside tells whether folder a lies in folder b or is the same.
func Inside(a, b string) bool {
	a, b = path.Clean(a), path.Clean(b)
	return a == b || b == "." || strings.HasPrefix(a, strings.TrimSuffix(b, "/")+"/")
}

// AllowanceOver is the rule's allowance over a network, zero without one. All
// its lanes over that network spend from it.
func (r Rule) AllowanceOver(n Network) Allowance {
	for _, l := range r.Lanes {
		if l.Over == n && l.Allowance.Bytes > 0 {
			return l.Allowance
		}
	}
	return Allowance{}
}
