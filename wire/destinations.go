package wire

import "yardtide/core/plan"

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
	OK    bool           `json:"ok"`
	Where string         `json:"where" doc:"The address that was tried"`
	Steps []TrialStep    `json:"steps"`
	Asks  *TrialQuestion `json:"asks,omitempty" doc:"What the keeper must decide first"`
	Space *Space         `json:"space,omitempty"`
	Rate  int64          `json:"rate" doc:"Bytes a second at which a large file went, 0 when none was sent"`
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

// Entry is a file or folder at a storage.
type Entry struct {
	Name   string `json:"name"`
	Folder bool   `json:"folder"`
	Size   int64  `json:"size" doc:"Bytes, 0 for a folder"`
}

// Listing is what lies in a folder.
type Listing struct {
	Entries []Entry `json:"entries" doc:"Folders first, by name"`
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

// Adopted is what was found at a destination that was there before.
type Adopted struct {
	Files   int64 `json:"files"`
	Bytes   int64 `json:"bytes"`
	Compare int64 `json:"compare" doc:"Waiting copies that have the size of a file that is there; they are compared before they are sent"`
}

// Proving is how far the proofs are that are taken again.
type Proving struct {
	Left  int64 `json:"left" doc:"Copies whose proof is still to be taken again"`
	Held  int64 `json:"held" doc:"Those of them that wait for a network that costs nothing, a pause, or their destination"`
	Stuck int64 `json:"stuck" doc:"Copies that are stuck, for this or another reason"`
}
