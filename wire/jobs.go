package wire

import (
	"time"

	"yardtide/wire/bringwire"
	"yardtide/wire/roomwire"
)

// JobKind is what a job does.
type JobKind string

// The kinds of jobs.
const (
	JobTrial     JobKind = "trial"
	JobAdoption  JobKind = "adoption"
	JobProofs    JobKind = "proofs"
	JobLook      JobKind = "look"
	JobBringBack JobKind = "bring-back"
	JobRoom      JobKind = "room"
)

// JobState is how a job stands.
type JobState string

// The states of a job; all but the first are its end.
const (
	JobRunning JobState = "running"
	JobDone    JobState = "done"
	JobFailed  JobState = "failed"
	JobStopped JobState = "stopped"
)

// Job is long work that the keeper started. It outlives the page or the command that
// started it, and can be stopped.
type Job struct {
	ID          string                 `json:"id"`
	Kind        JobKind                `json:"kind" enum:"trial,adoption,proofs,look,bring-back,room"`
	Destination string                 `json:"destination" doc:"Which storage it is about, empty for all"`
	State       JobState               `json:"state" enum:"running,done,failed,stopped"`
	Says        string                 `json:"says" doc:"How far it is, or what came of it, as a sentence"`
	Done        int64                  `json:"done" doc:"How many of what it counts are done"`
	Of          int64                  `json:"of" doc:"Of how many, 0 when nobody knows"`
	Began       time.Time              `json:"began"`
	Ended       time.Time              `json:"ended,omitzero"`
	Trial       *Trial                 `json:"trial,omitempty" doc:"What was tried so far"`
	Adopted     *Adopted               `json:"adopted,omitempty" doc:"What was found so far"`
	Proving     *Proving               `json:"proving,omitempty" doc:"How far the proofs are"`
	Back        *bringwire.BroughtBack `json:"back,omitempty" doc:"What was brought back so far"`
	Room        *roomwire.RoomMade     `json:"room,omitempty" doc:"What went so far to make room"`
	Look        *Look                  `json:"look,omitempty" doc:"What was found in a folder so far"`
}
