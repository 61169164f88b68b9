package wire

import (
	"time"

	"yardtide/core/media"
)

// LookOrder has a folder looked at before it is taken up, or as it is.
type LookOrder struct {
	Device string         `json:"device"`
	Folder string         `json:"folder" doc:"As the plan would name it: below the device's root, absolute, or a word such as PICTURES"`
	Set    map[string]any `json:"set,omitempty" doc:"What would be taken up of it, as the keys of a source; without, what the plan says of it, or else all that is not hidden"`
}

// Look is what is in a folder and below.
type Look struct {
	Device     string        `json:"device"`
	Folder     string        `json:"folder"`
	Path       string        `json:"path" doc:"Where it lies"`
	All        Amount        `json:"all" doc:"Every file"`
	Takes      Amount        `json:"takes" doc:"What would be taken up"`
	Kinds      []LookKind    `json:"kinds" doc:"Of what would be taken up"`
	Years      []LookYear    `json:"years" doc:"By when it was taken, of what would be taken up; the earliest first"`
	Folders    []LookFolder  `json:"folders" doc:"The folders in it with all below, the largest first; . for its own files"`
	LeftOut    []LookLeft    `json:"leftOut" doc:"What would be left out, and by what, the most first"`
	Unread     []Problem     `json:"unread" doc:"What cannot be read, the first of it"`
	Unreadable int64         `json:"unreadable" doc:"How many files and folders cannot be read"`
	ByContent  int64         `json:"byContent" doc:"How many files were told by their content so far; the others by their names"`
	SafeAt     []LookPlace   `json:"safeAt" doc:"What of it is proven at a place already"`
	Source     string        `json:"source" doc:"The source of the plan that it is, or lies in; empty for none"`
	Pictures   []LookPicture `json:"pictures" doc:"A few pictures of it, from all over"`
	Clips      []LookPicture `json:"clips" doc:"A few clips of it"`
	Libraries  []LookLibrary `json:"libraries" doc:"Closed libraries in it, or that it is, told apart once everything is counted"`
}

// LookLibrary is a closed library: a folder in which a program keeps pictures, and smaller versions of them.
type LookLibrary struct {
	Folder    string    `json:"folder" doc:"Below the folder that was looked at; . for itself"`
	Originals Amount    `json:"originals" doc:"Pictures and clips that are no smaller version of another"`
	Smaller   Amount    `json:"smaller" doc:"Those that are there larger, or lie in a cache"`
	Alone     Amount    `json:"alone" doc:"Of the originals, those of which only a smaller version is there"`
	Rest      Amount    `json:"rest" doc:"What is no picture or clip"`
	Only      bool      `json:"only" doc:"Only its originals would be taken"`
	Says      string    `json:"says"`
	Doubts    []Problem `json:"doubts" doc:"Folders, below the one that was looked at, of which it is unclear whether smaller versions lie in them: they are taken; the most files first"`
}

// LookPicture is a picture that was found.
type LookPicture struct {
	Path      string     `json:"path" doc:"Below the folder"`
	Kind      media.Kind `json:"kind"`
	TakenAt   time.Time  `json:"takenAt"`
	TakenFrom string     `json:"takenFrom" enum:"header,header-nz,file" doc:"Whether its header told, with its zone or without, or only the file's own time is known"`
}

// LookKind is how much there is of a kind.
type LookKind struct {
	Kind media.Kind `json:"kind"`
	Amount
}

// LookYear is how much was taken in a year.
type LookYear struct {
	Year int `json:"year"`
	Amount
}

// LookFolder is how much lies in a folder.
type LookFolder struct {
	Name string `json:"name"`
	Amount
}

// LookLeft is how much would be left out for one reason.
type LookLeft struct {
	Why string `json:"why"`
	Amount
}

// LookPlace is how much is proven at a destination.
type LookPlace struct {
	Destination string `json:"destination"`
	Amount
}

// UsualFolder is a folder that people mostly keep their things in.
type UsualFolder struct {
	Folder string `json:"folder" doc:"As the plan would name it"`
	Path   string `json:"path" doc:"Where it lies"`
	Source string `json:"source" doc:"The source of the plan that it is, or lies in; empty for none"`
}
