// Package show shows the keeper what is on a device: small pictures of items, an item in another form, shots in a row,
// and what is in a folder before it is taken up. It changes nothing and sends nothing.
package show

import (
	"os"

	"yardtide/core/plan"
	"yardtide/engine/face"
	"yardtide/engine/records"
)

// Options make a show. All are needed, but Faces.
type Options struct {
	Device  string
	Root    string // the device's own folder
	Records *records.Records
	Faces   *face.Cache // nil shows no small pictures
	Own     []string    // folders of Yard Tide's own
	// Folder is where a source lies.
	Folder func(source string) string
	Plan   func() *plan.Plan
	// Places tells whether a folder is one that copies go to, by a plan.
	Places func(p *plan.Plan) func(os.FileInfo) bool
	// Sending tells whether something is being sent: what is only looked at waits for it.
	Sending func() bool
}

// Show is what one device shows. Its methods are safe for concurrent use.
type Show struct {
	Options
	comparing chan struct{} // has room for one: a picture is held whole to be shown
}

// New makes a show.
func New(o Options) *Show { return &Show{o, make(chan struct{}, 1)} }
