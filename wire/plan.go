package wire

import (
	"time"

	"yardtide/core/media"
	"yardtide/core/plan"
)

// PlanWay is by what a version of the plan was made.
type PlanWay string

// The ways: the text, on the page or by a command; a form; an earlier version put in
// force again; and what nobody kept.
const (
	PlanByConsole PlanWay = "console"
	PlanByCommand PlanWay = "command"
	PlanByForm    PlanWay = "form"
	PlanByUndo    PlanWay = "undo"
	PlanByUnknown PlanWay = "unknown"
)

// PlanVersion is one version of the plan, and what it changed.
type PlanVersion struct {
	Version int64     `json:"version"`
	At      time.Time `json:"at"`
	By      PlanWay   `json:"by" enum:"console,command,form,undo,unknown" doc:"The text on the page or by a command, a form, an earlier version put in force again, or unknown"`
	Says    []string  `json:"says" doc:"What it changed, in sentences"`
	InForce bool      `json:"inForce"`
}

// PlanDiff is what changed between two versions.
type PlanDiff struct {
	From int64    `json:"from"`
	To   int64    `json:"to"`
	Says []string `json:"says" doc:"In sentences"`
	Text string   `json:"text" doc:"In the text, as a unified diff"`
}

// PlanUndo puts an earlier version of the plan in force again.
type PlanUndo struct {
	To   int64 `json:"to" minimum:"1" doc:"That version"`
	Base int64 `json:"base" minimum:"1" doc:"The version that is in force; it is refused when another is"`
}

// PlanText is a plan as the keeper wrote it.
type PlanText struct {
	Text    string     `json:"text" doc:"YAML"`
	Version int64      `json:"version" doc:"1 is the first; each change makes the next"`
	Rules   []PlanRule `json:"rules" doc:"What each rule does, in a sentence, and who follows it"`
	Doubts  []string   `json:"doubts" doc:"What it allows and was hardly meant, in sentences"`
}

// PlanRule is a rule as a sentence.
type PlanRule struct {
	Name    string       `json:"name"`
	Says    string       `json:"says"`
	Follows []PlanSource `json:"follows" doc:"The sources that follow it"`
	Take    []media.Kind `json:"take" enum:"photo,video"`
	To      []string     `json:"to"`
	Power   string       `json:"power" doc:"As the plan has it, empty for any"`
	Hours   string       `json:"hours" doc:"As the plan has it, empty for any"`
	Order   plan.Order   `json:"order" enum:"newest,oldest,smallest"`
}

// PlanSource is a folder of a device.
type PlanSource struct {
	Device string `json:"device"`
	Folder string `json:"folder"`
}

// SourceEdit adds a folder of a device to the plan, or takes it out.
type SourceEdit struct {
	PlanSource
	Rule   string `json:"rule,omitempty" doc:"The rule that it follows"`
	Remove bool   `json:"remove,omitempty" doc:"Take it out instead"`
	Try    bool   `json:"try,omitempty" doc:"Only tell what it would change"`
}

// RuleEdit changes a rule; what is left out stays as it is.
type RuleEdit struct {
	Rule  string       `json:"rule"`
	Take  []media.Kind `json:"take,omitempty" enum:"photo,video" doc:"The kinds that it takes"`
	To    []string     `json:"to,omitempty" doc:"The destinations that it sends to"`
	Power *string      `json:"power,omitempty" doc:"As the plan has it, such as charging or at least 40%; empty for any"`
	Hours *string      `json:"hours,omitempty" doc:"As the plan has it, such as 22:00-06:00; empty for any"`
	Order *plan.Order  `json:"order,omitempty" enum:"newest,oldest,smallest"`
	Try   bool         `json:"try,omitempty" doc:"Only tell what it would change"`
}

// PlanEdited is what an edit of the plan changed, or would change.
type PlanEdited struct {
	Version int64    `json:"version" doc:"The version that it became, 0 when it was only tried"`
	Says    []string `json:"says" doc:"What it changes, in sentences"`
	Notes   []string `json:"notes" doc:"What the keeper must know of it"`
}

// PlanChange is a plan that is to take the place of the one in force.
type PlanChange struct {
	Text string `json:"text" doc:"YAML"`
	File string `json:"file,omitempty" doc:"Name to use in messages"`
	Base int64  `json:"base" minimum:"0" doc:"The version that it was made of, 0 before the first; it is refused when another is in force"`
}

// PlanNotes is what follows from a plan that has no mistakes.
type PlanNotes struct {
	Says  []string `json:"says" doc:"What it would change, in sentences"`
	Notes []string `json:"notes" doc:"What the keeper must know of it"`
}

// PlanDraft is a plan that is to be checked.
type PlanDraft struct {
	Text string `json:"text" doc:"YAML"`
	File string `json:"file,omitempty" doc:"Name to use in messages"`
}
