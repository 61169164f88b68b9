// Package plan knows the plan: the YAML document that holds destinations,
// devices, sources and rules. Parse reads it strictly and says line and column
// of every mistake; Schema describes it to editors. It knows nothing of how a
// plan is carried out: core/gate and the engine read its values.
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
	Format       int                    `json:"format,omitempty" jsonschema:"enum=1,enum=2,default=1,description=2: photo takes photos alone. 1\\, or left out: photo takes raw files and graphics\\, too."`
	Yard         string                 `json:"yard" jsonschema:"description=The name of this household's installation."`
	Timezone     string                 `json:"timezone" jsonschema:"description=IANA time zone that hours and allowances are decided in\\, unless a device has its own.,example=Europe/Lisbon"`
	Destinations map[string]Destination `json:"destinations" jsonschema:"description=The storages that copies go to\\, by name."`
	Devices      map[string]Device      `json:"devices" jsonschema:"description=Phones and computers whose folders are taken up\\, by name."`
	Rules        map[string]Rule        `json:"rules" jsonschema:"description=How the items of a source are treated\\, by name."`
	// HomeNetworks are the names of the Wi-Fi networks at home, People whose devices they
	// are, SilentAfter how long a device may say nothing before the keeper is told.
	HomeNetworks []string `json:"home-networks,omitempty" jsonschema:"description=The names of the Wi-Fi networks at home: a lane may be open there only.,example=Slip"`
	People       []string `json:"people,omitempty" jsonschema:"description=The people whose devices they are\\, by a short name each."`
	// Renditions are the forms, other than as shot, in which items may be sent.
	Renditions  map[string]Rendition `json:"renditions,omitempty" jsonschema:"description=Forms in which rules may send\\, by name: reduced to limits of their own."`
	SilentAfter Days                 `json:"silent-after,omitempty" jsonschema:"default=3 days,description=How long a device may be silent before you are told."`
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
	Kind         DestinationKind `json:"kind" jsonschema:"description=Which sort of storage it is.,enum=folder,enum=webdav,enum=sftp,enum=s3"`
	Path         string          `json:"path,omitempty" jsonschema:"description=folder: the absolute path of the folder. sftp: of the folder that copies go into\\, relative to the user's home. s3: what the names of all objects begin with."`
	Address      string          `json:"address,omitempty" jsonschema:"description=sftp: the server as host:port."`
	HostKey      string          `json:"host-key,omitempty" jsonschema:"description=sftp: the fingerprint of the server's key as ssh-keygen -l prints it.,pattern=^SHA256:[A-Za-z0-9+/]{43}$"`
	URL          string          `json:"url,omitempty" jsonschema:"description=webdav: the address of the collection that copies go into. s3: that of the storage."`
	Bucket       string          `json:"bucket,omitempty" jsonschema:"description=s3: the bucket that copies go into; it must be there."`
	Region       string          `json:"region,omitempty" jsonschema:"description=s3: the region\\, if the storage has several.,default=us-east-1"`
	Authority    string          `json:"authority,omitempty" jsonschema:"description=webdav and s3 over https: a PEM file with certificates that are trusted beside the system's."`
	Certificate  string          `json:"certificate,omitempty" jsonschema:"description=webdav and s3 over https: the fingerprint of the one certificate that is trusted.,pattern=^SHA256:[0-9a-fA-F]{64}$"`
	User         string          `json:"user,omitempty" jsonschema:"description=webdav and sftp: the name to sign in with. s3: the access key."`
	PasswordFrom Secret          `json:"password-from,omitempty" jsonschema:"description=Where the password (s3: the secret key) is kept: kept:NAME\\, env:NAME or file:/absolute/path."`
	KeyFrom      Secret          `json:"key-from,omitempty" jsonschema:"description=sftp: where the private key is kept\\, in the same way."`
	Layout       string          `json:"layout,omitempty" jsonschema:"description=Where an item lands: {year} {month} {day} {hour} {minute} {second} of when it was taken\\, {device} {source} {folder} (below the source) {kind}\\, and {name} last.,default={year}/{month}/{name}"`
	Senders      int             `json:"senders,omitempty" jsonschema:"description=How many copies each device sends here at the same time.,minimum=1,maximum=16,default=4"`
	// KeepFree is room that is never filled; Size is how much it holds in all,
	// for storage that does not tell its space.
	KeepFree Size `json:"keep-free,omitempty" jsonschema:"description=Room that is never filled."`
	Size     Size `json:"size,omitempty" jsonschema:"description=What the storage holds in all\\, where it does not tell its space."`
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
	Timezone string `json:"timezone,omitempty" jsonschema:"description=Overrides the yard's time zone for this device."`
	Person   string `json:"person,omitempty" jsonschema:"description=Whose it is\\, of the people of the plan; {person} in a rule's destinations stands for it."`
	// UnknownNetwork says what a network is taken for of which the device cannot tell
	// what it is.
	UnknownNetwork UnknownAs `json:"unknown-network,omitempty" jsonschema:"enum=treat as wifi,description=What a network counts as where the device cannot tell which it is; else it opens nothing."`
	// InFrontOnly tells that its system lets the program work only while it is open.
	InFrontOnly bool `json:"in-front-only,omitempty" jsonschema:"description=It works only while its program is open in front: what waits says so."`
	// Awake keeps its system from sleeping, where AwakeWhen allows it.
	Awake     Awake    `json:"awake,omitempty" jsonschema:"enum=while sending,description=Keep its system from sleeping while something is sent; the screen may go dark."`
	AwakeWhen Gates    `json:"awake-when,omitzero" jsonschema:"description=Only under these conditions it is kept awake."`
	Limit     Limits   `json:"limit,omitempty" jsonschema:"description=How fast it may send\\, over all its destinations; with hours\\, the first that fits counts."`
	Sources   []Source `json:"sources" jsonschema:"minItems=1,description=The folders that are taken up."`
	// Rules is what this device says of rules itself.
	Rules map[string]Override `json:"rules,omitempty" jsonschema:"description=What this device has otherwise than a rule says\\, by the rule's name."`
}

// Override is what a device has otherwise than a rule says: its lanes, when there are
// some, and the gates that it names.
type Override struct {
	Lanes []Lane `json:"lanes,omitempty" jsonschema:"description=In place of the rule's."`
	Gates Gates  `json:"gates,omitzero" jsonschema:"description=In place of the rule's of the same name."`
}

// Source is a folder on a device, what of it is taken up, and the rules that its items
// follow: the first that takes an item counts.
type Source struct {
	Folder string   `json:"folder" jsonschema:"description=A folder below the device's own root (a phone's storage or a home folder)\\, or an absolute path; or begins with PICTURES\\, VIDEOS\\, DOCUMENTS\\, DESKTOP\\, DOWNLOAD\\, MUSIC or CAMERA\\, which stand for the folders that the device has for them.,example=DCIM,example=PICTURES/Boats"`
	Rules  []string `json:"rules" jsonschema:"minItems=1,description=The rules that its items follow: the first that takes an item counts."`
	Scope
}

// Rule is how the items of a source are treated.
type Rule struct {
	Take []media.Kind `json:"take" jsonschema:"description=Which kinds of files it takes\\, by their content.,enum=photo,enum=raw,enum=graphic,enum=video,enum=audio,enum=document,enum=other,enum=everything,minItems=1"`
	// With one of these only longer or larger files are taken; with both, one is enough.
	LargerThan Size    `json:"larger-than,omitempty" jsonschema:"description=Only files that are larger\\, or longer than longer-than."`
	LongerThan Minutes `json:"longer-than,omitempty" jsonschema:"description=Only clips that last longer\\, or files larger than larger-than."`
	// Send is in which form the kinds go that are not sent as shot.
	Send map[media.Kind]string `json:"send,omitempty" jsonschema:"description=In which of the renditions a kind goes (photo\\, graphic); the others go as shot."`
	// Companions are those that go with what the rule takes; nil for those whose kind it
	// takes, and sidecars.
	Companions []media.Companion `json:"companions,omitempty" jsonschema:"enum=raw,enum=clip,enum=sidecar,description=Which parts go with an item: the raw of a picture\\, the clip of a still\\, sidecars. Left out: those whose kind the rule takes\\, and sidecars; none is [none]."`
	// Previews and Also are put beside the copies.
	Previews string `json:"previews,omitempty" jsonschema:"description=A rendition: a small picture of each is put beside\\, in the folder previews."`
	Also     []Also `json:"also,omitempty" jsonschema:"description=What carries a mark goes under a second layout\\, too."`
	// Bursts has a moving picture made of shots in a row.
	Bursts bool `json:"bursts,omitempty" jsonschema:"description=Of shots in a row that look alike a short clip is made\\, beside them: an item of its own."`
	// OnClash is what happens where something else has the name.
	OnClash Clash    `json:"on-clash,omitempty" jsonschema:"enum=name,enum=skip,default=name,description=Where something else has the name: a name that says so\\, or it is not sent."`
	To      []string `json:"to" jsonschema:"minItems=1,description=Destinations; an item is safe when every one of them has it."`
	Lanes   []Lane   `json:"lanes" jsonschema:"minItems=1,description=The allowed ways to send. The first open one is used."`
	Gates   Gates    `json:"gates,omitzero" jsonschema:"description=Conditions for every lane of this rule."`
	Order   Order    `json:"order,omitempty" jsonschema:"enum=newest,enum=oldest,enum=smallest,default=newest,description=What goes first."`
	// StoreEach stores equal files from several places each under a name of its
	// own; otherwise a destination holds the same bytes once.
	StoreEach bool `json:"store-each,omitempty" jsonschema:"description=Also store a file whose same bytes are at the destination already."`
}

// Order is what of a rule's items goes first.
type Order string

// The orders a rule can name.
const (
	NewestFirst   Order = "newest"
	OldestFirst   Order = "oldest"
	SmallestFirst Order = "smallest"
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
	t = t.In(zone)
	minute := t.Hour()*60 + t.Minute()
	for _, one := range l {
		if len(one.At) == 0 || slices.ContainsFunc(one.At, func(w Window) bool { return w.Contains(minute) }) {
			return one.Rate
		}
	}
	return 0
}

// Lane is one allowed way to send, over one kind of network.
type Lane struct {
	Over      Network      `json:"over" jsonschema:"enum=wifi,enum=wired,enum=cellular,description=wifi is the home network\\, by radio or by cable; wired is cable only."`
	Take      []media.Kind `json:"take,omitempty" jsonschema:"enum=photo,enum=raw,enum=graphic,enum=video,enum=audio,enum=document,enum=other,description=Only these kinds go by this lane; all that the rule takes when left out."`
	Allowance Allowance    `json:"allowance,omitzero"`
	Metered   bool         `json:"metered,omitempty" jsonschema:"description=wifi and wired: also when the network is metered. Cellular always counts as metered."`
	Roaming   bool         `json:"roaming,omitempty" jsonschema:"description=cellular: also while roaming."`
	// Send is the rendition of quick copies: the lane carries them and nothing else.
	Send string `json:"send,omitempty" jsonschema:"description=A rendition: this lane carries small copies\\, and the whole ones wait for another lane."`
	// RoamingAllowance is what may be spent of the allowance while roaming.
	RoamingAllowance Allowance `json:"roaming-allowance,omitzero" jsonschema:"description=cellular: while roaming no more than this in a period."`
	// MeteredWiFi has a Wi-Fi that is metered count as cellular.
	MeteredWiFi bool `json:"metered-wifi,omitempty" jsonschema:"description=cellular: also over a Wi-Fi that is metered\\, which then spends the same allowance."`
	// Named are the only networks that it is open on, NotNamed those that it is not.
	Named    []string `json:"named,omitempty" jsonschema:"description=wifi: only on the networks of these names."`
	NotNamed []string `json:"not-named,omitempty" jsonschema:"description=wifi: not on the networks of these names."`
	HomeOnly bool     `json:"home-only,omitempty" jsonschema:"description=wifi: only on the home-networks of the plan\\, or by cable."`
	Gates    Gates    `json:"gates,omitzero" jsonschema:"description=Conditions of this lane alone; they replace the rule's of the same name."`
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
	Unused Minutes `json:"unused-for,omitempty" jsonschema:"description=Only when nobody used the device for so long."`
	Rest   Minutes `json:"rest,omitempty" jsonschema:"description=Only when it has been on charge and unused together for so long\\, as phones are at night."`
	Screen Switch  `json:"screen,omitempty" jsonschema:"enum=off,enum=any,description=off: only while the screen is dark. any: whatever the rule says."`
	Saver  Switch  `json:"battery-saver,omitempty" jsonschema:"enum=off,enum=any,description=off: not while the system saves battery. any: whatever the rule says."`

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
type Window struct{ Start, End int }

// String writes the window as "06:00-23:00".
func (w Window) String() string {
	return fmt.Sprintf("%02d:%02d-%02d:%02d", w.Start/60, w.Start%60, w.End/60, w.End%60)
}

// Contains tells whether a minute of the day lies in the window.
func (w Window) Contains(minute int) bool {
	if w.Start < w.End {
		return w.Start <= minute && minute < w.End
	}
	return minute >= w.Start || minute < w.End
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
// time zone: a calendar day, a week from Monday, a calendar month.
type Period string

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
