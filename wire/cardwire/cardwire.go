// Package cardwire is what the API tells of memory cards, cameras and phones on a cable: values only.
package cardwire

// State is how it stands with a volume.
type State string

// The states of a volume.
const (
	Counting State = "counting" // it is surveyed
	Asks     State = "asks"     // the keeper has not answered
	Left     State = "left"
	Taken    State = "taken"   // it is a source
	Copying  State = "copying" // what is new is copied
	Done     State = "done"    // it can be taken out
	Away     State = "away"
)

// CardIn says whether a simulated card is in its reader.
type CardIn struct {
	In bool `json:"in"`
}

// Card is a memory card, a camera or a phone on a cable.
type Card struct {
	ID       string `json:"id" doc:"Its own identity, whatever it is mounted as"`
	Name     string `json:"name"`
	Path     string `json:"path" doc:"Where it is; empty while it is away"`
	Here     bool   `json:"here"`
	State    State  `json:"state" enum:"counting,asks,left,taken,copying,done,away"`
	Says     string `json:"says"`
	ByAny    bool   `json:"byAny,omitempty" doc:"It is to be taken up as every card is, and the plan does not name it yet"`
	Files    int64  `json:"files" doc:"Pictures, clips and sidecars on it"`
	Pictures int64  `json:"pictures"`
	Clips    int64  `json:"clips"`
	Bytes    int64  `json:"bytes"`
	Known    int64  `json:"known" doc:"Of the pictures and clips, those that lie in the device's folders already"`
	Safe     int64  `json:"safe" doc:"Those that are safe at their places"`
	Unread   int64  `json:"unread" doc:"Files and folders that cannot be read"`
	Done     int64  `json:"done" doc:"Files that were copied, or compared with what is there"`
	Of       int64  `json:"of"`
	Problem  string `json:"problem" doc:"Why it does not go on, else empty; it is tried again"`
}
