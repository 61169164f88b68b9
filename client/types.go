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
	Name     string               `json:"name"`
	Kind     plan.DestinationKind `json:"kind"`
	Where    string               `json:"where"`
	Space    destination.Space    `json:"space"`
	KeepFree int64                `json:"keepFree" doc:"Bytes that are never filled"`
	There    []device.Share       `json:"there" doc:"What is there, by device, rule and kind, the largest first"`
	Coming   []device.Share       `json:"coming" doc:"What is still to come, the largest first"`
	Short    int64                `json:"short" doc:"Bytes by which what is still to come does not fit, 0 when it does or nobody knows"`
	Says     string               `json:"says" doc:"What does not fit, as a sentence, else empty"`
	Problem  string               `json:"problem" doc:"Why nothing can be done there, or why what is there does not count, else empty"`
	Todo     string               `json:"todo" doc:"What the keeper can do about the problem"`
	Asks     bool                 `json:"asks" doc:"Its name has come to stand for another place: the keeper says whether that is the old one moved, or new"`
}

// Draft is a destination as the keeper sets it up. A secret in it is kept
// encrypted, under the destination's name, and never given back.
type Draft struct {
	Name        string           `json:"name"`
	Destination plan.Destination `json:"destination"`
	Password    string           `json:"password,omitempty" doc:"webdav, sftp: the password; s3: the secret key" writeOnly:"true"`
	Key         string           `json:"key,omitempty" doc:"sftp: a private key, PEM" writeOnly:"true"`
	MakeFolder  bool             `json:"makeFolder,omitempty" doc:"Make the folder if it is not there"`
}

// Secrets are a destination's password or key, given anew.
type Secrets struct {
	Password string `json:"password,omitempty" doc:"webdav, sftp: the password; s3: the secret key" writeOnly:"true"`
	Key      string `json:"key,omitempty" doc:"sftp: a private key, PEM" writeOnly:"true"`
}

// Trial is what was tried at a destination, in order.
type Trial struct {
	OK    bool               `json:"ok"`
	Steps []TrialStep        `json:"steps"`
	Asks  *TrialQuestion     `json:"asks,omitempty" doc:"What the keeper must decide first"`
	Space *destination.Space `json:"space,omitempty"`
}

// TrialStep is one thing that was tried.
type TrialStep struct {
	Name string `json:"name"`
	OK   bool   `json:"ok"`
	Says string `json:"says"`
	Todo string `json:"todo" doc:"What the keeper can do, empty when it went well"`
}

// TrialQuestion asks whether a fingerprint is to be trusted.
type TrialQuestion struct {
	Field       string `json:"field" enum:"certificate,host-key" doc:"Where the fingerprint goes in the destination"`
	Fingerprint string `json:"fingerprint"`
	Says        string `json:"says"`
}

// PlaceAnswer is the keeper's answer about a destination whose name has come to
// stand for another place.
type PlaceAnswer struct {
	Is string `json:"is" enum:"moved,new" doc:"moved: what was at the old place was moved here, and is proven again; new: everything is sent here, and what is at the old place stays there"`
}

// Browse asks what lies in a folder of a storage that is being set up.
type Browse struct {
	Draft
	Folder string `json:"folder" doc:"Below the storage's first folder, which is empty"`
	Make   bool   `json:"make,omitempty" doc:"Make it first"`
}

// Listing is what lies in a folder.
type Listing struct {
	Entries []destination.Entry `json:"entries" doc:"Folders first, by name"`
}

// DestinationDetail is a destination of the plan.
type DestinationDetail struct {
	Destination plan.Destination  `json:"destination"`
	Status      DestinationStatus `json:"status"`
	Rules       []string          `json:"rules" doc:"The rules that send there"`
}

// ProveOrder has proofs taken again.
type ProveOrder struct {
	Device      string `json:"device,omitempty" doc:"All when left out"`
	Destination string `json:"destination,omitempty" doc:"All when left out"`
	Sample      int64  `json:"sample,omitempty" minimum:"0" doc:"So many of each device, taken at random; all when left out"`
}

// Proving is how far the proofs are that are taken again.
type Proving struct {
	Left  int64 `json:"left" doc:"Copies whose proof is still to be taken again"`
	Held  int64 `json:"held" doc:"Those of them that wait for a network that costs nothing, a pause, or their destination"`
	Stuck int64 `json:"stuck" doc:"Copies that are stuck, for this or another reason"`
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
	SentTwice   int64       `json:"sentTwice" doc:"Bytes that went more than once, as a send was cut"`
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
	Text    string `json:"text" doc:"YAML"`
	Version int64  `json:"version" doc:"1 is the first; each change makes the next"`
}

// PlanChange is a plan that is to take the place of the one in force.
type PlanChange struct {
	Text string `json:"text" doc:"YAML"`
	File string `json:"file,omitempty" doc:"Name to use in messages"`
	Base int64  `json:"base" minimum:"0" doc:"The version that it was made of, 0 before the first; it is refused when another is in force"`
}

// PlanNotes is what follows from a plan that has no mistakes.
type PlanNotes struct {
	Notes []string `json:"notes"`
}

// PlanDraft is a plan that is to be checked.
type PlanDraft struct {
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
