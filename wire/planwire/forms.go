package planwire

import (
	"yardtide/core/forecast"
	"yardtide/wire"
)

// FormSize is how large a picture is in a form.
type FormSize struct {
	Width  int   `json:"width"`
	Height int   `json:"height"`
	Bytes  int64 `json:"bytes"`
}

// FormCompared is a picture as shot and as a rendition makes it.
type FormCompared struct {
	Name   string   `json:"name"`
	AsShot FormSize `json:"asShot"`
	Made   FormSize `json:"made"`
	Why    string   `json:"why" doc:"Why it goes as shot, empty where it does not"`
	Before []byte   `json:"before" doc:"A detail as shot, as JPEG"`
	After  []byte   `json:"after" doc:"The same detail as it is made, as JPEG, in fewer pixels"`
}

// Form is a form in which items may be sent: a rendition of the plan, or one that is not in it yet.
type Form struct {
	Name string         `json:"name,omitempty" doc:"A rendition of the plan"`
	Form map[string]any `json:"form,omitempty" doc:"In the place of a name: the keys of a rendition"`
}

// FormTry asks for an item in a form.
type FormTry struct {
	Form
	X float64 `json:"x" minimum:"0" maximum:"1" doc:"The middle of the detail, from the left"`
	Y float64 `json:"y" minimum:"0" maximum:"1" doc:"The middle of the detail, from above"`
}

// FormSample is what came of a few items of a device.
type FormSample struct {
	wire.Amount
	Samples []forecast.Sample `json:"samples"`
}

// FormAsked asks what a form would come to for all that a rule takes of a kind.
type FormAsked struct {
	Form
	Rule string `json:"rule,omitempty" doc:"The rule that takes it; any when left out"`
	Kind string `json:"kind" enum:"photo,raw,graphic,video,audio,document,other" doc:"photo or graphic: what is no picture takes too long to be sampled"`
}

// FormForecast tells it.
type FormForecast struct {
	All     wire.Amount    `json:"all" doc:"What there is, as shot"`
	Looked  int            `json:"looked" doc:"How many were made to tell"`
	Range   forecast.Range `json:"range" doc:"Bytes that it would come to, likely, and mostly between low and high"`
	Known   bool           `json:"known" doc:"Whether it can be told at all"`
	Says    string         `json:"says"`
	Missing []string       `json:"missing" doc:"Devices that did not answer"`
}
