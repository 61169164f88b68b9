package planwire

import (
	"slices"
	"time"

	"yardtide/core/plan"
	"yardtide/core/words"
	"yardtide/wire"
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
	PlanByLink    PlanWay = "link" // from the yard's service, to a device of it
	PlanByUnknown PlanWay = "unknown"
)

// PlanVersion is one version of the plan, and what it changed.
type PlanVersion struct {
	Version int64     `json:"version"`
	At      time.Time `json:"at"`
	By      PlanWay   `json:"by" enum:"console,command,form,undo,link,unknown" doc:"The text on the page or by a command, a form, an earlier version put in force again, or unknown"`
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
	Text       string          `json:"text" doc:"YAML"`
	Version    int64           `json:"version" doc:"1 is the first; each change makes the next"`
	Values     map[string]any  `json:"values" doc:"What it says, in JSON, key by key: see the keys of the plan"`
	Rules      []PlanRule      `json:"rules" doc:"What each rule does, in a sentence, and who follows it"`
	Sources    []PlanFolder    `json:"sources" doc:"The folders that are taken up"`
	Devices    []PlanDevice    `json:"devices" doc:"The devices, and how fast each may send"`
	Renditions []PlanRendition `json:"renditions" doc:"The forms in which a rule may send, beside as shot"`
	Doubts     []words.Doubt   `json:"doubts" doc:"What it allows and was hardly meant"`
}

// PlanRendition is a form in which a rule may send.
type PlanRendition struct {
	Name     string   `json:"name"`
	Says     string   `json:"says"`
	Pictures bool     `json:"pictures" doc:"It says something of pictures"`
	Clips    bool     `json:"clips" doc:"It says something of clips"`
	Rules    []string `json:"rules" doc:"The rules that send so"`
}

// PlanRule is a rule as a sentence.
type PlanRule struct {
	Name    string         `json:"name"`
	Says    string         `json:"says"`
	Phrases []words.Phrase `json:"phrases" doc:"What it says, in phrases that each tell of one key of it"`
	Follows []PlanSource   `json:"follows" doc:"The sources that follow it"`
	Own     []RuleOwn      `json:"own" doc:"How its items go on each device that has something otherwise"`
}

// RuleOwn is what one device has otherwise than a rule says.
type RuleOwn struct {
	Device  string         `json:"device"`
	Says    string         `json:"says" doc:"What it has otherwise"`
	Phrases []words.Phrase `json:"phrases" doc:"The lanes and gates as they are on it, in phrases"`
}

// PlanHeld is what the parts of the plan hold at one moment.
type PlanHeld struct {
	Folders []HeldFolder `json:"folders" doc:"What is in each folder that is taken up"`
	Rules   []HeldRule   `json:"rules" doc:"What goes by each rule, where something does"`
}

// HeldFolder is what is in a folder that is taken up.
type HeldFolder struct {
	PlanSource
	All      wire.Amount    `json:"all" doc:"The items that a rule takes"`
	Safe     wire.Amount    `json:"safe" doc:"Those of them that are safe"`
	LeftOut  wire.Amount    `json:"leftOut" doc:"The items that no rule takes"`
	Changed  time.Time      `json:"changed,omitzero" doc:"When the newest was found; absent while there is none"`
	Scanned  time.Time      `json:"scanned,omitzero" doc:"When it was looked through last; absent before"`
	Away     bool           `json:"away" doc:"It lies on a volume that is not here"`
	Problems []wire.Problem `json:"problems" doc:"What in it cannot be taken up as it is"`
}

// HeldRule is what goes by a rule.
type HeldRule struct {
	Rule  string           `json:"rule"`
	All   wire.Amount      `json:"all" doc:"Items"`
	Safe  wire.Amount      `json:"safe" doc:"Those of them that are safe"`
	Holds []wire.HoldGroup `json:"holds" doc:"Why the others wait, the largest group first"`
}

// Join adds what another device holds by the same rule.
func (h *HeldRule) Join(o HeldRule) {
	h.All, h.Safe = h.All.Plus(o.All.N, o.All.Bytes), h.Safe.Plus(o.Safe.N, o.Safe.Bytes)
	for _, hold := range o.Holds {
		if i := slices.IndexFunc(h.Holds, hold.Same); i >= 0 {
			h.Holds[i].Join(hold)
		} else {
			h.Holds = append(h.Holds, hold)
		}
	}
	slices.SortFunc(h.Holds, wire.HoldGroup.Compare)
}

// PlanSource is a folder of a device.
type PlanSource struct {
	Device string `json:"device"`
	Folder string `json:"folder"`
}

// PlanFolder is a source as it stands in the plan.
type PlanFolder struct {
	PlanSource
	Says string `json:"says" doc:"Which rules it follows and what of it is taken up"`
}

// PlanDevice is a device as it stands in the plan.
type PlanDevice struct {
	Device string `json:"device"`
	Says   string `json:"says" doc:"How fast it sends and whose hours it keeps, as the words after its name"`
}

// PlanEdits have keys of the plan say something else, and leave the rest of its text as it is.
type PlanEdits struct {
	Base  int64       `json:"base,omitempty" minimum:"0" doc:"The version of the plan that they were made on; they are refused when another is in force. Without one they are made on whichever is"`
	Edits []plan.Edit `json:"edits" minItems:"1" maxItems:"200"`
	Try   bool        `json:"try,omitempty" doc:"Only tell what they would change"`
}

// PlanEdited is what an edit of the plan changed, or would change.
type PlanEdited struct {
	Version int64    `json:"version" doc:"The version that it became, 0 when it was only tried"`
	Says    []string `json:"says" doc:"What it changes, in sentences"`
	Notes   []string `json:"notes" doc:"What the keeper must know of it"`
	// Of a try.
	Tried *PlanTried `json:"tried,omitempty" doc:"What it would do to the yard's items, when it was only tried"`
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
