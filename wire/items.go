package wire

import (
	"time"

	"yardtide/core/gate"
	"yardtide/core/media"
	"yardtide/core/plan"
)

// Item is one picture or clip, with its copy at each place.
type Item struct {
	Key       string          `json:"key" doc:"Names it on its device, for good"`
	Device    string          `json:"device"`
	Name      string          `json:"name"`
	Path      string          `json:"path" doc:"On the device, from the source on"`
	Kind      string          `json:"kind"`
	Bytes     int64           `json:"bytes"`
	TakenAt   time.Time       `json:"takenAt" doc:"In the zone where it was taken"`
	TakenFrom string          `json:"takenFrom" enum:"header,header-nz,file" doc:"header-nz: the camera wrote no zone; file: the file's own time"`
	Camera    string          `json:"camera" doc:"Its model, empty where the header does not tell"`
	Caption   string          `json:"caption" doc:"What people wrote to it, once that is known"`
	Position  *media.Position `json:"position,omitempty" doc:"Where it was taken, absent where that is not known"`
	Rating    int             `json:"rating" doc:"Stars that people gave it, 0 for none"`
	Keeper    media.Keeper    `json:"keeper" doc:"What the keeper said of it"`
	Gone      bool            `json:"gone" doc:"The file is no longer on the device, or has another content"`
	State     string          `json:"state" enum:"waiting,preparing,sending,proving,safe,stuck,skipped" doc:"Of all its copies together: safe when each is"`
	Parts     []Part          `json:"parts" doc:"Its further files: the raw of a picture, the clip of a still, sidecars"`
	InSmall   bool            `json:"inSmall" doc:"It is not safe, and a small copy of it is, at one place at least"`
	Says      string          `json:"says" doc:"Where it stands, place by place, as a sentence"`
	Copies    []Copy          `json:"copies" doc:"At each place, file by file"`
}

// Part is one further file of an item.
type Part struct {
	Name  string `json:"name"`
	Kind  string `json:"kind"`
	Bytes int64  `json:"bytes"`
}

// Copy is one file of an item at one place.
type Copy struct {
	Destination string      `json:"destination"`
	Shelf       plan.Shelf  `json:"shelf,omitempty" doc:"What lies beside the copy itself: small, preview, jpeg, or a pick; absent for the copy itself"`
	Part        string      `json:"part,omitempty" doc:"The name of the part; absent for the main file"`
	Rule        string      `json:"rule"`
	State       string      `json:"state" enum:"waiting,preparing,sending,proving,safe,stuck,skipped"`
	Tries       int         `json:"tries"`
	Remote      string      `json:"remote" doc:"Path at the destination, empty before it is sent"`
	SHA256      string      `json:"sha256"`
	Bytes       int64       `json:"bytes" doc:"That go, or went: fewer than the item's where it is reduced"`
	Reduced     bool        `json:"reduced" doc:"It goes, or went, smaller than as shot"`
	SentTwice   int64       `json:"sentTwice" doc:"Bytes that went more than once, as a send was cut"`
	Proof       string      `json:"proof"`
	ProvenAt    time.Time   `json:"provenAt,omitzero"`
	Says        string      `json:"says" doc:"Why it is where it is"`
	Todo        string      `json:"todo" doc:"What the keeper can do, empty when it mends itself"`
	Holds       []gate.Hold `json:"holds" doc:"Why it waits, the first being the nearest to open"`
	ChangedAt   time.Time   `json:"changedAt"`
}

// Filter narrows the items of a page; empty fields take everything.
type Filter struct {
	Device      string
	State       string // of the item, or queue.Unsafe
	Kind        string
	Hold        string // a gate that holds one of its copies
	Destination string // of one of its copies
	After       string // the cursor that the page before gave
	Limit       int
}

// Page is a part of the items, newest first.
type Page struct {
	Items []Item `json:"items"`
	Next  string `json:"next" doc:"The cursor of the next page, empty at the end"`
}

// Event is one line of an item's story.
type Event struct {
	At          time.Time  `json:"at"`
	Destination string     `json:"destination" doc:"Empty for what concerns the item at every place"`
	Shelf       plan.Shelf `json:"shelf,omitempty" doc:"Absent for the copy itself"`
	Part        string     `json:"part,omitempty" doc:"The name of the part; absent for the main file"`
	State       string     `json:"state"`
	Says        string     `json:"says"`
}

// Lies is where a copy of an item lies, as other programs have it.
type Lies struct {
	Destination string     `json:"destination"`
	Shelf       plan.Shelf `json:"shelf,omitempty" doc:"Absent for the copy itself"`
	Part        string     `json:"part,omitempty" doc:"The name of the part; absent for the main file"`
	At          string     `json:"at" doc:"A path of this computer, or an address"`
	Link        string     `json:"link,omitempty" doc:"An address that a browser opens, where it has one"`
	Reduced     bool       `json:"reduced" doc:"It is smaller than as shot"`
	Bytes       int64      `json:"bytes"`
}

// Story is an item with all that happened to it, oldest first.
type Story struct {
	Item  Item    `json:"item"`
	Story []Event `json:"story"`
	Lies  []Lies  `json:"lies" doc:"Where its safe copies lie"`
	Cost  Cost    `json:"cost" doc:"What sending it now would take"`
}
