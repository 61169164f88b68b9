package wire

import (
	"time"

	"yardtide/core/media"
)

// Strays are the pictures and clips of a device that no source takes up.
type Strays struct {
	Device string `json:"device"`
	Says   string `json:"says"`
	// Coverage is the share of all media seen that lies in sources.
	Coverage int           `json:"coverage" doc:"Of 100 pictures and clips that were seen, how many lie in sources; 100 only when all do"`
	Inside   Amount        `json:"inside" doc:"In sources"`
	Outside  Amount        `json:"outside" doc:"In no source: the strays"`
	LetBe    Amount        `json:"letBe" doc:"In no source, as the plan lets their folders be"`
	Folders  []StrayFolder `json:"folders" doc:"Where the strays lie, the newest first; 200 at most"`
	Unseen   []Unseen      `json:"unseen" doc:"What was not looked into; 200 at most"`
	Left     int           `json:"left" doc:"How many folders more were not looked into"`
	// Libraries are taken with their smaller versions.
	Libraries []StrayLibrary `json:"libraries" doc:"Closed libraries in sources that take more than their originals; 200 at most"`
}

// StrayLibrary is a closed library in a source that takes more than its originals.
type StrayLibrary struct {
	Source string `json:"source"`
	Folder string `json:"folder" doc:"Below the source; . for itself"`
	Path   string `json:"path"`
	Says   string `json:"says"`
}

// StraySum tells of them in short.
type StraySum struct {
	Amount
	Folders   int `json:"folders"`
	Libraries int `json:"libraries,omitempty" doc:"How many closed libraries are taken with their smaller versions"`
	Coverage  int `json:"coverage" doc:"Of 100 pictures and clips that were seen, how many lie in sources"`
	Unseen    int `json:"unseen" doc:"How many folders were not looked into"`
	// New are folders that appeared since the first look, and that nobody decided about.
	New  []StrayFolder `json:"new,omitempty" doc:"Folders that appeared, and about which nobody decided yet; the newest first, 10 at most"`
	At   time.Time     `json:"at" doc:"When the device looked"`
	Says string        `json:"says" doc:"A sentence; empty where there are none"`
}

// StrayFolder is a folder with strays, in it and below.
type StrayFolder struct {
	Folder string `json:"folder" doc:"As a source would name it"`
	Path   string `json:"path"`
	Alone  bool   `json:"alone" doc:"Only what lies in the folder itself: a source lies below"`
	Amount
	Kinds     []StrayKind `json:"kinds"`
	Newest    time.Time   `json:"newest" doc:"When the newest of them was changed last"`
	Libraries []string    `json:"libraries" doc:"Closed libraries in it, below the folder; . for itself: originals-only takes only their originals"`
}

// StrayKind is how many of a kind a folder has, by their names.
type StrayKind struct {
	Kind media.Kind `json:"kind"`
	Amount
}

// Unseen is a folder that was not looked into.
type Unseen struct {
	Path string `json:"path"`
	Says string `json:"says" doc:"Why"`
}
