// Package wire holds the types that cross the API: values only, with the words
// that the API document has of them. It imports nothing above core/, so that who
// speaks with a service links none of it.
package wire

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"yardtide/core/gate"
	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/wire/cardwire"
)

// Amount is a number of items, or of copies where that is said, and their bytes.
type Amount struct {
	N     int64 `json:"n"`
	Bytes int64 `json:"bytes"`
}

// Plus is an amount with more.
func (a Amount) Plus(n, bytes int64) Amount { return Amount{a.N + n, a.Bytes + bytes} }

// Yard is the whole yard at one moment.
type Yard struct {
	Yard         string              `json:"yard" doc:"Empty before there is a plan"`
	Plan         int64               `json:"plan" doc:"The version of the plan in force, 0 before the first and on a device whose plan is its service's"`
	Time         time.Time           `json:"time"`
	Says         string              `json:"says" doc:"How all items stand, in a sentence or two"`
	Holds        []HoldGroup         `json:"holds" doc:"Why items of all devices wait, where that mends itself, the largest group first"`
	Needs        []Need              `json:"needs" doc:"What does not mend itself, each once, the gravest first"`
	Devices      []Device            `json:"devices" doc:"Those that run in this service"`
	Absent       []string            `json:"absent" doc:"Devices of the plan that no process runs"`
	Destinations []DestinationStatus `json:"destinations"`
	Jobs         []Job               `json:"jobs" doc:"Long work that was started: what runs and what ended lately, the newest first; looks at folders are not among them"`
	Standin      bool                `json:"standin" doc:"Phones and storage are simulated"`
	Problem      string              `json:"problem" doc:"What the keeper must do before anything goes, else empty"`
	Home         *Home               `json:"home,omitempty" doc:"The yard's service, where this is one of its devices only"`
}

// Home is a device's service elsewhere, as the device sees it.
type Home struct {
	Yard    string    `json:"yard"`
	Address string    `json:"address"`
	Heard   time.Time `json:"heard,omitzero" doc:"When it answered last; absent when never"`
	Says    string    `json:"says" doc:"How the two stand, as a sentence"`
	Problem string    `json:"problem" doc:"Why it does not answer, empty when it does"`
	Behind  int64     `json:"behind" doc:"Seconds by which this device's clock is behind the service's, 0 within two minutes"`
}

// Need is something that the keeper must see to.
type Need struct {
	Says        string `json:"says"`
	Todo        string `json:"todo" doc:"What the keeper can do, as a sentence, empty when says tells it"`
	Device      string `json:"device" doc:"Whom it concerns, empty when nobody or all"`
	Destination string `json:"destination" doc:"Which storage it concerns, empty when none"`
	Mends       string `json:"mends" enum:"retry,answer,plan,nothing" doc:"What mends it here: retry takes up what is stuck or tries the storage again, answer says which place it is, plan adds the first destination; nothing is done elsewhere"`
}

// DestinationStatus is a storage and the room it has.
type DestinationStatus struct {
	Layout   string               `json:"layout" doc:"Where items land there"`
	Name     string               `json:"name"`
	Kind     plan.DestinationKind `json:"kind"`
	Where    string               `json:"where"`
	Space    Space                `json:"space"`
	KeepFree int64                `json:"keepFree" doc:"Bytes that are never filled"`
	Held     Amount               `json:"held" doc:"Copies that are there, proven or about to be"`
	There    []Share              `json:"there" doc:"What is there, by device, rule and kind, the largest first"`
	Coming   []Share              `json:"coming" doc:"What is still to come, the largest first"`
	Short    int64                `json:"short" doc:"Bytes by which what is still to come does not fit, 0 when it does or nobody knows"`
	Says     string               `json:"says" doc:"What does not fit, as a sentence, else empty"`
	Problem  string               `json:"problem" doc:"Why nothing can be done there, or why what is there does not count, else empty"`
	Todo     string               `json:"todo" doc:"What the keeper can do about the problem"`
	Asks     bool                 `json:"asks" doc:"Its name has come to stand for another place: the keeper says whether that is the old one moved, or new"`
}

// Space is a storage's room in bytes; -1 is not known.
type Space struct {
	Free int64 `json:"free" doc:"Bytes, -1 when the storage does not tell"`
	Used int64 `json:"used" doc:"Bytes, -1 when the storage does not tell"`
}

// Share is what one device has, or has still to come, at a destination, in copies.
type Share struct {
	Device string     `json:"device"`
	Rule   string     `json:"rule"`
	Kind   media.Kind `json:"kind"`
	Amount
}

// Device is a device at one moment.
type Device struct {
	Name       string                 `json:"name"`
	Conditions gate.Conditions        `json:"conditions"`
	Pause      gate.PauseState        `json:"pause"`
	Modem      gate.Known             `json:"modem" enum:"unknown,yes,no" doc:"Whether it has one"`
	States     map[queue.State]Amount `json:"states" doc:"Items by the state of all their copies together; absent is none"`
	Kinds      []media.Kind           `json:"kinds" doc:"Of the items that count"`
	Partly     Amount                 `json:"partly" doc:"Items that are not safe, and lie proven at one place at least"`
	InSmall    Amount                 `json:"inSmall" doc:"Items that are not safe, and of which a small copy is, at one place at least"`
	Beside     []Beside               `json:"beside" doc:"What is put beside the copies: previews, picks and the like"`
	Strays     *StraySum              `json:"strays,omitempty" doc:"Media that no source takes up, as the device saw last; left out before it looked"`
	Cards      []cardwire.Card        `json:"cards" doc:"Memory cards, cameras and phones on a cable: those that are here, and those that the plan names"`
	Doubles    []Doubled              `json:"doubles" doc:"Places where copies lie beside the same content of another device's"`
	Going      Amount                 `json:"going" doc:"Items of which a copy waits that no gate holds"`
	Holds      []HoldGroup            `json:"holds" doc:"Why items wait, the largest group first; an item may wait for several reasons"`
	Sends      []Send                 `json:"sends"`
	Lanes      []Lane                 `json:"lanes"`
	Sources    []Source               `json:"sources"`
	Problem    string                 `json:"problem" doc:"Why the device cannot work, empty when it can"`
	Awake      Awake                  `json:"awake" doc:"Whether the device is kept from sleeping"`
	Stops      Stops                  `json:"stops" doc:"How often its program was stopped from outside in the last seven days"`
	Person     string                 `json:"person" doc:"Whose it is, empty for nobody's in particular"`
	Link       *DeviceLink            `json:"link,omitempty" doc:"Of a device elsewhere: all of this is as it was told last"`
}

// Doubled tells of copies that lie at a place twice, as two devices sent them without knowing of
// each other.
type Doubled struct {
	Destination string `json:"destination"`
	N           int64  `json:"n"`
	Says        string `json:"says" doc:"As a sentence"`
}

// Beside is how it stands with one sort of what is put beside the copies. It makes nothing
// safe.
type Beside struct {
	Shelf   plan.Shelf `json:"shelf"`
	There   Amount     `json:"there" doc:"Proven at their places"`
	Waiting Amount     `json:"waiting" doc:"Still to go"`
	Stuck   int64      `json:"stuck" doc:"That need a person"`
	Says    string     `json:"says" doc:"As a sentence"`
}

// Awake is whether a device is kept from sleeping, and what follows.
type Awake struct {
	Able  bool      `json:"able" doc:"It can be kept awake, and sent to sleep"`
	Held  bool      `json:"held" doc:"It is kept awake now"`
	Then  string    `json:"then" enum:",sleep,off" doc:"What it does when nothing more can go, empty for nothing"`
	Until time.Time `json:"until,omitzero" doc:"About until when; absent where that is not known"`
	Says  string    `json:"says" doc:"As a sentence; empty when it may sleep, as ever"`
}

// FinishOrder has a device rest when nothing more can go.
type FinishOrder struct {
	Device string `json:"device" doc:"Which"`
	Then   string `json:"then" enum:",sleep,off" doc:"What it does then; empty takes that back"`
}

// Stops is how often a device's program was stopped from outside: by its system, to save
// battery, or as the device went off.
type Stops struct {
	N    int       `json:"n"`
	Last time.Time `json:"last,omitzero"`
}

// DeviceLink is how a device elsewhere and its service stand.
type DeviceLink struct {
	Heard     time.Time `json:"heard,omitzero" doc:"When it was heard of last; absent when never"`
	Connected bool      `json:"connected" doc:"It was heard of just now"`
	Says      string    `json:"says" doc:"How the link stands, as a sentence"`
	Ahead     int64     `json:"ahead" doc:"Seconds by which the device's clock is ahead of the service's, 0 within two minutes"`
	Version   string    `json:"version" doc:"Of its program"`
	Follows   bool      `json:"follows" doc:"It follows the plan in force"`
	Silent    bool      `json:"silent" doc:"It was not heard of for longer than the plan says"`
	Telling   bool      `json:"telling" doc:"It is telling everything anew: what is shown may be older"`
	Reached   []Reached `json:"reached" doc:"The places that it sends to, as seen from there"`
}

// ClockSays tells of the device's clock, where it is not the service's.
func (l DeviceLink) ClockSays(name string) string {
	way, by := "ahead of", time.Duration(l.Ahead)*time.Second
	if by < 0 {
		way, by = "behind", -by
	}
	return fmt.Sprintf("The clock of %s is %s %s the service's: its hours and allowances, and its pictures' times, "+
		"are decided by it.", name, by, way)
}

// Reached is whether a device reaches a place.
type Reached struct {
	Destination string    `json:"destination"`
	At          time.Time `json:"at,omitzero" doc:"When it was seen there last; absent when never"`
	Says        string    `json:"says" doc:"Why not, empty when it was"`
}

// HoldGroup is the items that wait for one reason.
type HoldGroup struct {
	gate.Hold
	Amount
	Devices      []string     `json:"devices" doc:"On which the items are"`
	Kinds        []media.Kind `json:"kinds" doc:"Of the items"`
	Destinations []string     `json:"destinations" doc:"Where they wait to go"`
	Todo         string       `json:"todo" doc:"What the keeper can do, empty when it mends itself"`
}

// Same tells whether two groups wait for one and the same reason.
func (h HoldGroup) Same(o HoldGroup) bool {
	return h.Gate == o.Gate && h.Says == o.Says && h.Opens.Equal(o.Opens)
}

// Compare orders groups: the largest first.
func (h HoldGroup) Compare(o HoldGroup) int {
	return cmp.Or(cmp.Compare(o.N, h.N), cmp.Compare(h.Says, o.Says))
}

// Join adds the items of another group that waits for the same reason.
func (h *HoldGroup) Join(o HoldGroup) {
	h.Amount = h.Plus(o.N, o.Bytes)
	h.Devices = union(h.Devices, o.Devices)
	h.Kinds = union(h.Kinds, o.Kinds)
	h.Destinations = union(h.Destinations, o.Destinations)
	if !o.Since.IsZero() && o.Since.Before(h.Since) {
		h.Since = o.Since
	}
}

func union[T cmp.Ordered](a, b []T) []T {
	all := slices.Concat(a, b)
	slices.Sort(all)
	return slices.Compact(all)
}

// Send is a copy on its way right now.
type Send struct {
	Item        string      `json:"item" doc:"Its key"`
	Name        string      `json:"name"`
	Kind        media.Kind  `json:"kind"`
	Destination string      `json:"destination"`
	Shelf       plan.Shelf  `json:"shelf,omitempty" doc:"Which of the item's copies there: absent for the copy itself"`
	State       queue.State `json:"state"`
	Bytes       int64       `json:"bytes"`
	Sent        int64       `json:"sent"`
	Rate        int64       `json:"rate" doc:"Bytes a second since it began, 0 while it is not known"`
	Metered     bool        `json:"metered"`
	BeginsAnew  bool        `json:"beginsAnew" doc:"It is large, and this storage cannot go on after a cut: it would begin anew"`
}

// Lane is one lane of a rule for one kind and whether it is open now.
type Lane struct {
	Rule        string       `json:"rule"`
	Kind        media.Kind   `json:"kind"`
	Destination string       `json:"destination"`
	Over        plan.Network `json:"over"`
	Open        bool         `json:"open"`
	Holds       []gate.Hold  `json:"holds"`
	Limit       int64        `json:"limit" doc:"The allowance in bytes, 0 without one"`
	Per         plan.Period  `json:"per" doc:"The allowance's period"`
	Spent       int64        `json:"spent" doc:"Bytes spent or reserved in this period"`
}

// Source is a folder that is taken up, and how its last scan went.
type Source struct {
	Folder   string    `json:"folder"`
	Path     string    `json:"path"`
	Rules    []string  `json:"rules" doc:"The first that takes an item counts"`
	Says     string    `json:"says" doc:"Which rules it follows and what of it is taken up"`
	Scanned  time.Time `json:"scanned,omitzero" doc:"Absent before the first scan ended"`
	Away     bool      `json:"away,omitempty" doc:"It lies on a card, a camera or a phone that is not here: what was found is kept, and waits"`
	Problems []Problem `json:"problems"`
}

// Problem is a file or folder that cannot be taken up as it is.
type Problem struct {
	Path string `json:"path"`
	Says string `json:"says"`
	Todo string `json:"todo"`
}

// Phone is the state of a simulated phone.
type Phone struct {
	Device     string          `json:"device"`
	Conditions gate.Conditions `json:"conditions"`
	Day        bool            `json:"day" doc:"It follows its day, by the stand-ins' clock"`
	Card       string          `json:"card" enum:",in,out" doc:"Whether its simulated card is in; empty where it has no reader"`
}

// StandinClock is the clock that simulated devices live by.
type StandinClock struct {
	Minute int `json:"minute" minimum:"0" maximum:"1439" doc:"Of the day"`
	Speed  int `json:"speed" minimum:"0" maximum:"1440" doc:"How many times as fast as the real one it goes; 0 while it stands"`
}

// Link is a one-time link to the console.
type Link struct {
	URL string `json:"url"`
}

// Count is how many an order reached.
type Count struct {
	N int64 `json:"n"`
}
