package client

import (
	"time"

	"yardtide/core/gate"
	"yardtide/core/plan"
	"yardtide/engine/destination"
	"yardtide/engine/device"
)

// Yard is the whole yard at one moment.
type Yard struct {
	Yard         string              `json:"yard" doc:"Empty before there is a plan"`
	Time         time.Time           `json:"time"`
	Devices      []device.Status     `json:"devices" doc:"Those that run in this service"`
	Absent       []string            `json:"absent" doc:"Devices of the plan that no process runs"`
	Destinations []DestinationStatus `json:"destinations"`
	Standin      bool                `json:"standin" doc:"Phones and storage are simulated"`
	Problem      string              `json:"problem" doc:"What the keeper must do before anything goes, else empty"`
}

// DestinationStatus is a storage and the room it has.
type DestinationStatus struct {
	Name  string               `json:"name"`
	Kind  plan.DestinationKind `json:"kind"`
	Where string               `json:"where"`
	Space destination.Space    `json:"space"`
}

// Copy is one item's way to one destination.
type Copy struct {
	ID          int64       `json:"id"`
	Device      string      `json:"device"`
	Name        string      `json:"name"`
	Path        string      `json:"path" doc:"On the device, from the source on"`
	Kind        string      `json:"kind"`
	Rule        string      `json:"rule"`
	Destination string      `json:"destination"`
	State       string      `json:"state" enum:"waiting,preparing,sending,proving,safe,stuck,skipped"`
	Bytes       int64       `json:"bytes"`
	TakenAt     time.Time   `json:"takenAt" doc:"In the zone where it was taken"`
	TakenFrom   string      `json:"takenFrom" enum:"header,header-nz,file" doc:"header-nz: the camera wrote no zone; file: the file's own time"`
	Tries       int         `json:"tries"`
	Remote      string      `json:"remote" doc:"Path at the destination, empty before it is sent"`
	SHA256      string      `json:"sha256"`
	Proof       string      `json:"proof"`
	ProvenAt    time.Time   `json:"provenAt,omitzero"`
	Says        string      `json:"says" doc:"Why it is where it is"`
	Todo        string      `json:"todo" doc:"What the keeper can do, empty when it mends itself"`
	Holds       []gate.Hold `json:"holds" doc:"Why it waits, the first being the nearest to open"`
	ChangedAt   time.Time   `json:"changedAt"`
}

// Page is a part of the queue, newest first.
type Page struct {
	Copies []Copy `json:"copies"`
	Next   string `json:"next" doc:"The cursor of the next page, empty at the end"`
}

// Event is one line of a copy's story.
type Event struct {
	At    time.Time `json:"at"`
	State string    `json:"state"`
	Says  string    `json:"says"`
}

// Story is a copy with all that happened to it, oldest first.
type Story struct {
	Copy  Copy        `json:"copy"`
	Story []Event     `json:"story"`
	Cost  device.Cost `json:"cost" doc:"What sending it now would take"`
}

// Pick names copies of one device.
type Pick struct {
	Device string  `json:"device"`
	Copies []int64 `json:"copies" minItems:"1" maxItems:"1000"`
}

// SendNowOrder sends copies whatever their gates say.
type SendNowOrder struct {
	Pick
	Metered bool `json:"metered,omitempty" doc:"It may cost; without it, a call that would is refused"`
}

// PauseOrder holds everything.
type PauseOrder struct {
	Device string    `json:"device,omitempty" doc:"All when left out"`
	Until  time.Time `json:"until,omitzero" doc:"Until it is resumed when left out"`
}

// ResumeOrder ends a pause.
type ResumeOrder struct {
	Device string `json:"device,omitempty" doc:"All when left out"`
}

// RetryOrder takes stuck copies up again.
type RetryOrder struct {
	Device string  `json:"device,omitempty" doc:"All when left out"`
	Copies []int64 `json:"copies,omitempty" maxItems:"1000" doc:"All stuck ones when left out"`
}

// PlanText is a plan as the keeper wrote it.
type PlanText struct {
	Text string `json:"text" doc:"YAML"`
	File string `json:"file,omitempty" doc:"Name to use in messages"`
}

// Phone is the state of a simulated phone.
type Phone struct {
	Device     string          `json:"device"`
	Conditions gate.Conditions `json:"conditions"`
	Timeline   bool            `json:"timeline" doc:"It follows its timeline"`
}

// Link is a one-time link to the console.
type Link struct {
	URL string `json:"url"`
}

// Count is how many copies an order reached.
type Count struct {
	N int64 `json:"n"`
}
