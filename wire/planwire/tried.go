package planwire

import (
	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/wire"
)

// PlanTried is what a plan would do to the yard's items, beside what today's does. It
// changes nothing.
type PlanTried struct {
	Says    []string      `json:"says" doc:"What it would change, in sentences"`
	Text    string        `json:"text" doc:"What it would change in the text, as a unified diff; empty when the text is the same"`
	Notes   []string      `json:"notes" doc:"What the keeper must know of it, and what was hardly meant"`
	Devices []TriedDevice `json:"devices" doc:"What it would do to the items of each"`
	Places  []TriedPlace  `json:"places" doc:"What each place would get"`
}

// PlanOffer is a change of the plan that would help a place whose room runs out.
type PlanOffer struct {
	Says    string      `json:"says" doc:"What would change, and what it would come to, in sentences"`
	Fits    bool        `json:"fits" doc:"What is still to come would fit"`
	Instead string      `json:"instead,omitempty" doc:"The place that would get it, where that is another"`
	Base    int64       `json:"base" doc:"The version of the plan that it is for"`
	Edits   []plan.Edit `json:"edits"`
}

// TriedDevice is what a plan would do to one device's items.
type TriedDevice struct {
	Device    string      `json:"device"`
	New       []TriedKind `json:"new" doc:"What is newly taken up"`
	Left      []TriedKind `json:"left" doc:"What is no longer taken up; what is stored of it stays"`
	Uncounted wire.Amount `json:"uncounted" doc:"What counts as safe today, and would not until it is at every place that the plan asks for"`
	Today     []TriedWay  `json:"today" doc:"How what is still to come stands today, in copies"`
	Then      []TriedWay  `json:"then" doc:"How it would stand"`
	Unknown   []string    `json:"unknown" doc:"Folders that were not walked yet: what is in them is not counted"`
}

// TriedKind is items of one kind that are newly taken up, or left out for one reason.
type TriedKind struct {
	Kind media.Kind `json:"kind"`
	Why  string     `json:"why" doc:"Why they are left out, empty for what is taken up"`
	wire.Amount
	Paths []string `json:"paths" doc:"The first of them"`
}

// TriedWay is copies that go by one way, or wait for one reason.
type TriedWay struct {
	Says string `json:"says"`
	Goes bool   `json:"goes" doc:"They go now, as senders are free"`
	wire.Amount
}

// TriedPlace is what is still to come to a place, today and then.
type TriedPlace struct {
	Name  string      `json:"name"`
	Today wire.Amount `json:"today"`
	Then  wire.Amount `json:"then" doc:"As shot"`
	Low   int64       `json:"low" doc:"Bytes that it comes to there at least, as some go smaller"`
	High  int64       `json:"high" doc:"Bytes that it comes to there at most"`
	Room  int64       `json:"room" doc:"Bytes that may still be filled, -1 when nobody knows"`
	Fits  bool        `json:"fits"`
	Says  string      `json:"says"`
}
