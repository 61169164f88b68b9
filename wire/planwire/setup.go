package planwire

import (
	"yardtide/core/forecast"
	"yardtide/core/gate"
	"yardtide/core/plan"
	"yardtide/wire"
)

// Setup is a household's first plan as it is being made, step by step. Nothing of it
// counts before it is started.
type Setup struct {
	Version int64         `json:"version" doc:"Each change makes the next"`
	Step    int           `json:"step" doc:"1 whose, 2 where to, 3 what, 4 how, 5 when, 6 names, 7 said back"`
	Whose   SetupWhose    `json:"whose" enum:",here,elsewhere,both" doc:"Whose pictures: of this computer, of devices elsewhere that joined, or both; empty before it was answered"`
	Device  string        `json:"device" doc:"This computer"`
	Draft   string        `json:"draft" doc:"The plan as far as it is made, YAML"`
	Places  []SetupPlace  `json:"places"`
	Folders []SetupFolder `json:"folders"`
}

// SetupWhose is whose pictures a set-up is about.
type SetupWhose string

// Whose: this computer's, those of devices elsewhere that joined, or both.
const (
	SetupHere      SetupWhose = "here"
	SetupElsewhere SetupWhose = "elsewhere"
	SetupBoth      SetupWhose = "both"
)

// SetupDevice is a device whose folders may be taken up.
type SetupDevice struct {
	Name      string     `json:"name"`
	Here      bool       `json:"here" doc:"It is this computer"`
	Battery   gate.Known `json:"battery" enum:"unknown,yes,no" doc:"Whether it has one"`
	Modem     gate.Known `json:"modem" enum:"unknown,yes,no" doc:"Whether it has one"`
	Connected bool       `json:"connected" doc:"It can be asked just now"`
}

// SetupPlace is a destination of the draft that was tried.
type SetupPlace struct {
	Name string `json:"name"`
	Free int64  `json:"free" doc:"Bytes, -1 when it does not tell"`
	Rate int64  `json:"rate" doc:"Bytes a second, as the trial saw, 0 when nobody knows"`
	Form string `json:"form,omitempty" enum:",large,medium,small" doc:"In which form pictures go there; empty is as shot"`
	// Clips is left out as shot.
	Clips int `json:"clips,omitempty" enum:"0,1080,720" doc:"Pixels of the shorter edge at most that clips go there with; 0 is as shot"`
}

// SetupFolder is a folder that may be taken up.
type SetupFolder struct {
	Device   string             `json:"device"`
	Folder   string             `json:"folder" doc:"As the plan would name it"`
	Path     string             `json:"path"`
	On       bool               `json:"on" doc:"It is taken up"`
	Counting bool               `json:"counting" doc:"It is being looked at"`
	Job      string             `json:"job" doc:"The job that looked at it, for its pictures; empty after a restart"`
	Problem  string             `json:"problem" doc:"Why it cannot be looked at, else empty"`
	All      wire.Amount        `json:"all"`
	Kinds    []wire.LookKind    `json:"kinds"`
	Years    []wire.LookYear    `json:"years"`
	Folders  []wire.LookFolder  `json:"folders" doc:"The folders in it, the largest first"`
	Pictures []wire.LookPicture `json:"pictures"`
	// Libraries are told apart once everything is counted.
	Samples   map[string][]forecast.Sample `json:"samples,omitempty" doc:"What came of a few of its pictures, by the forms that are offered"`
	Libraries []wire.LookLibrary           `json:"libraries" doc:"Closed libraries in it, or that it is: only their originals are taken"`
}

// SetupChange changes what is given, and leaves the rest.
type SetupChange struct {
	Step  *int           `json:"step,omitempty" minimum:"1" maximum:"7"`
	Whose *SetupWhose    `json:"whose,omitempty" enum:"here,elsewhere,both"`
	On    *SetupFolderOn `json:"on,omitempty"`
	Form  *SetupFormAt   `json:"form,omitempty"`
	Edits []plan.Edit    `json:"edits,omitempty" maxItems:"50" doc:"Of the draft: the yard's name, the rule everyday, and the layouts of its destinations"`
}

// SetupFormAt has pictures go to a place in a form.
type SetupFormAt struct {
	Place string  `json:"place" maxLength:"200"`
	Form  *string `json:"form,omitempty" enum:",large,medium,small" doc:"Of pictures; empty is as shot"`
	Clips *int    `json:"clips,omitempty" enum:"0,1080,720" doc:"Of clips, pixels of the shorter edge at most; 0 is as shot"`
}

// SetupClips is a form in which clips may go to a place.
type SetupClips struct {
	Height int    `json:"height" doc:"Pixels of the shorter edge at most, 0 as shot"`
	Chosen bool   `json:"chosen"`
	Says   string `json:"says"`
}

// SetupForm is what a place would get in a form.
type SetupForm struct {
	Form     string         `json:"form" enum:",large,medium,small"`
	LongEdge int            `json:"longEdge" doc:"Pixels of the longer edge at most, 0 as shot"`
	Range    forecast.Range `json:"range" doc:"Bytes that all of it would come to"`
	Known    bool           `json:"known" doc:"Whether that can be told: as shot it always can"`
	Fits     bool           `json:"fits"`
	Chosen   bool           `json:"chosen"`
	Says     string         `json:"says"`
}

// SetupFolderOn takes a folder up, or not.
type SetupFolderOn struct {
	Device string `json:"device,omitempty" doc:"This computer when left out"`
	Folder string `json:"folder" maxLength:"4096"`
	On     bool   `json:"on"`
	Forget bool   `json:"forget,omitempty" doc:"Take it out of the list"`
}

// SetupAdd is a place that a trial found good.
type SetupAdd struct {
	wire.Draft
	Job string `json:"job" doc:"The trial"`
}

// SetupNow is the set-up, what is known of it, and what it would come to.
type SetupNow struct {
	Setup
	Values  map[string]any  `json:"values" doc:"What the draft says, in JSON, key by key"`
	Devices []SetupDevice   `json:"devices" doc:"The devices whose folders are asked for"`
	Battery gate.Known      `json:"battery" enum:"unknown,yes,no" doc:"Whether one of them has one"`
	Modem   gate.Known      `json:"modem" enum:"unknown,yes,no" doc:"Whether one of them has one"`
	InForce bool            `json:"inForce" doc:"There is a plan already: it is changed on the page Plan"`
	Takes   wire.Amount     `json:"takes" doc:"What would be taken up"`
	Kinds   []wire.LookKind `json:"kinds" doc:"What is in the folders that are taken up, by kind"`
	Says    []string        `json:"says" doc:"The whole in a few sentences"`
	Rooms   []SetupRoom     `json:"rooms" doc:"What each place would get, and whether it fits"`
	Missing []SetupLack     `json:"missing" doc:"What stands in the way of starting"`
	Notes   []SetupLack     `json:"notes" doc:"What it allows and was hardly meant, and the step at which each is mended"`
	Names   []SetupName     `json:"names" doc:"Where items would land, the awkward ones, too"`
	Text    string          `json:"text" doc:"The plan that it makes, empty while something stands in the way"`
}

// SetupRoom is what a place would get.
type SetupRoom struct {
	Name    string `json:"name"`
	Free    int64  `json:"free" doc:"Bytes, -1 when it does not tell"`
	Fits    bool   `json:"fits"`
	Seconds int64  `json:"seconds" doc:"How long it takes at the speed that the trial saw and in the hours that were chosen, 0 when nobody knows"`
	Says    string `json:"says"`
	// Forms are those that it may get.
	Forms []SetupForm  `json:"forms" doc:"The forms in which pictures may go there, as shot first"`
	Clips []SetupClips `json:"clips" doc:"The forms in which clips may go there, as shot first; none where there are no clips"`
}

// SetupLack is what stands in the way of starting, and the step at which it is mended.
type SetupLack struct {
	Step int    `json:"step"`
	Says string `json:"says"`
}

// SetupName is where an item would land.
type SetupName struct {
	What string `json:"what" doc:"What is odd about it, empty for an ordinary one"`
	From string `json:"from"`
	To   string `json:"to"`
}

// LayoutAsked asks where items would land at a destination by a layout.
type LayoutAsked struct {
	Destination string `json:"destination"`
	Layout      string `json:"layout" minLength:"1" maxLength:"500" doc:"Such as {year}/{month}/{name}"`
}

// SetupStart starts what was said back.
type SetupStart struct {
	Version int64 `json:"version" doc:"The version that was said back; it is refused when another is"`
}
