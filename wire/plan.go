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
	Rules      []PlanRule      `json:"rules" doc:"What each rule does, in a sentence, and who follows it"`
	Sources    []PlanFolder    `json:"sources" doc:"The folders that are taken up"`
	Devices    []PlanDevice    `json:"devices" doc:"The devices, and how fast each may send"`
	Renditions []PlanRendition `json:"renditions" doc:"The forms in which a rule may send, beside as shot"`
	Doubts     []string        `json:"doubts" doc:"What it allows and was hardly meant, in sentences"`
}

// Form is what a rendition asks for; what it says nothing of is left out.
type Form struct {
	LongEdge   int             `json:"longEdge,omitempty" minimum:"0" maximum:"65535" doc:"Pixels of the longer edge, at most"`
	Megapixels plan.Megapixels `json:"megapixels,omitempty" minimum:"0" maximum:"1000" doc:"Millions of pixels, at most"`
	Quality    int             `json:"quality,omitempty" minimum:"0" maximum:"100" doc:"How much of the detail a JPEG keeps, to 100; 82 when it is left out"`
	Format     plan.Format     `json:"format,omitempty" enum:"jpeg,both" doc:"jpeg: pictures of other formats become JPEG; both: HEIC goes as shot, and a JPEG beside"`
	Height     int             `json:"height,omitempty" minimum:"0" maximum:"4320" doc:"Of clips: pixels of the shorter edge, at most"`
	FPS        int             `json:"fps,omitempty" minimum:"0" maximum:"240" doc:"Of clips: pictures a second, at most"`
	Bitrate    string          `json:"bitrate,omitempty" doc:"Of clips: how much a second may take, such as 4 Mbit/s"`
	Codec      plan.Codec      `json:"codec,omitempty" enum:"h264,h265" doc:"Of clips: H.264 when it is left out"`
	Facts      plan.Facts      `json:"facts,omitempty" enum:"no place,time only" doc:"What of its facts goes with it; all when it is left out"`
	Colours    plan.Colours    `json:"colours,omitempty" enum:"srgb" doc:"What becomes of its colours; nothing when it is left out"`
}

// FormOf is what a rendition asks for.
func FormOf(r plan.Rendition) Form {
	return Form{LongEdge: r.LongEdge, Megapixels: r.Megapixels, Quality: r.Quality, Format: r.Format, Height: r.Height, FPS: r.FPS, Bitrate: r.Bitrate.String(), Codec: r.Codec, Facts: r.Facts, Colours: r.Colours}
}

// Rendition is the rendition that asks for it.
func (f Form) Rendition() (r plan.Rendition, err error) {
	r = plan.Rendition{LongEdge: f.LongEdge, Megapixels: f.Megapixels, Quality: f.Quality, Format: f.Format, Height: f.Height, FPS: f.FPS, Codec: f.Codec, Facts: f.Facts, Colours: f.Colours}
	if f.Bitrate != "" {
		if r.Bitrate, err = plan.ParseBitrate(f.Bitrate); err != nil {
			return r, plan.EditError{Says: "bitrate: " + err.Error()}
		}
	}
	if r.Codec == plan.H264 { // as without a word
		r.Codec = ""
	}
	return r, nil
}

// PlanRendition is a form in which a rule may send.
type PlanRendition struct {
	Name string `json:"name"`
	Says string `json:"says"`
	Form
	Pictures bool     `json:"pictures" doc:"It says something of pictures"`
	Clips    bool     `json:"clips" doc:"It says something of clips"`
	Rules    []string `json:"rules" doc:"The rules that send so"`
}

// RenditionEdit makes a rendition, or changes or takes out one.
type RenditionEdit struct {
	Name string `json:"name" minLength:"1" maxLength:"63"`
	Form
	Remove bool `json:"remove,omitempty" doc:"Take it out instead"`
	Try    bool `json:"try,omitempty" doc:"Only tell what it would change"`
}

// RuleAlso is what goes under a second layout, too.
type RuleAlso struct {
	When   string `json:"when" doc:"captioned, rated 4 (or better), or keyword WORD"`
	Layout string `json:"layout" doc:"Such as picks/{year}/{caption}"`
}

// PlanRule is a rule as a sentence.
type PlanRule struct {
	Name      string                `json:"name"`
	Says      string                `json:"says"`
	Follows   []PlanSource          `json:"follows" doc:"The sources that follow it"`
	Take      []media.Kind          `json:"take" enum:"photo,raw,graphic,video,audio,document,other"`
	Larger    string                `json:"larger" doc:"Only larger files, or longer clips; as the plan has it, empty for any"`
	Longer    string                `json:"longer" doc:"Only longer clips, or larger files; as the plan has it, empty for any"`
	To        []string              `json:"to"`
	Power     string                `json:"power" doc:"As the plan has it, empty for any"`
	Hours     string                `json:"hours" doc:"As the plan has it, empty for any"`
	Order     plan.Order            `json:"order" enum:"newest,oldest,smallest"`
	Send      map[media.Kind]string `json:"send" doc:"The rendition of each kind that does not go as shot"`
	Lanes     []RuleLane            `json:"lanes" doc:"The first open one is used"`
	Idle      bool                  `json:"idle" doc:"Only while nobody uses the device"`
	Unused    string                `json:"unused" doc:"Only when nobody used the device for so long, such as 10 min; empty for any"`
	Rest      string                `json:"rest" doc:"Only when it has been on charge and unused for so long, such as 30 min; empty for any"`
	Screen    string                `json:"screen" doc:"off: only while the screen is dark; empty for any"`
	Saver     string                `json:"saver" doc:"off: not while the system saves battery; empty for any"`
	StoreEach bool                  `json:"storeEach" doc:"Equal files from several places are stored each"`
	Previews  string                `json:"previews" doc:"The rendition of the previews that are put beside, empty for none"`
	Also      []RuleAlso            `json:"also" doc:"What goes under a second layout, too"`
	OnClash   plan.Clash            `json:"onClash" enum:"name,skip" doc:"What happens where something else has the name"`
	Bursts    bool                  `json:"bursts" doc:"Of shots in a row a clip is made, beside them"`
	// Companions are which parts go with an item.
	Companions []media.Companion `json:"companions" enum:"raw,clip,sidecar,none" doc:"Which parts go with an item; empty for those whose kind it takes, and sidecars"`
	Own        []RuleOwn         `json:"own" doc:"What devices have otherwise"`
}

// RuleOwn is what one device has otherwise than a rule says.
type RuleOwn struct {
	Device string     `json:"device"`
	Says   string     `json:"says"`
	Lanes  []RuleLane `json:"lanes" doc:"In place of the rule's; empty for those of the rule"`
	Power  string     `json:"power" doc:"In place of the rule's, any for none; empty for the rule's"`
	Hours  string     `json:"hours" doc:"In place of the rule's, any for none; empty for the rule's"`
}

// RuleLane is one lane of a rule, without its gates.
type RuleLane struct {
	Over      plan.Network `json:"over" enum:"wifi,wired,cellular"`
	Take      []media.Kind `json:"take" enum:"photo,raw,graphic,video,audio,document,other" doc:"Only these kinds; empty for all that the rule takes"`
	Allowance string       `json:"allowance" doc:"As the plan has it, such as 45 MB per day; empty for no bound"`
	Metered   bool         `json:"metered" doc:"Also where it is metered; cellular always counts so"`
	Roaming   bool         `json:"roaming" doc:"Also while roaming"`
	// Of a lane over cellular, and of one over Wi-Fi.
	RoamingAllowance string   `json:"roamingAllowance,omitempty" doc:"While roaming no more than this; as the plan has it, empty for what the allowance says"`
	MeteredWiFi      bool     `json:"meteredWifi,omitempty" doc:"Also over a metered Wi-Fi, which spends the same allowance"`
	Named            []string `json:"named,omitempty" doc:"Only on the Wi-Fi networks of these names"`
	NotNamed         []string `json:"notNamed,omitempty" doc:"Not on these"`
	HomeOnly         bool     `json:"homeOnly,omitempty" doc:"Only on the plan's home networks"`
	Send             string   `json:"send,omitempty" doc:"The rendition of small copies, which it carries and nothing else; empty for whole ones"`
}

// PlanSource is a folder of a device.
type PlanSource struct {
	Device string `json:"device"`
	Folder string `json:"folder"`
}

// SourceRules is what the items of a source follow, and what of it is taken up, as the
// plan has it.
type SourceRules struct {
	Rules      []string `json:"rules" doc:"The first that takes an item counts"`
	Only       []string `json:"only" doc:"Patterns (the gitignore language): only what one of them fits is taken up"`
	LeaveOut   []string `json:"leaveOut" doc:"Patterns of what is left out"`
	Hidden     bool     `json:"hidden" doc:"Hidden files, too"`
	Smallest   string   `json:"smallest" doc:"As the plan has it, such as 10 kB; empty for any"`
	Largest    string   `json:"largest" doc:"As the plan has it, such as 4 GB; empty for any"`
	TakenFrom  string   `json:"takenFrom" doc:"A day, such as 2026-11-25; empty for any"`
	TakenUntil string   `json:"takenUntil" doc:"A day; empty for any"`
	NewSince   string   `json:"newSince" doc:"A day from which on what came is taken up; empty for all"`
}

// PlanFolder is a source as it stands in the plan.
type PlanFolder struct {
	PlanSource
	SourceRules
	Says string `json:"says" doc:"Which rules it follows and what of it is taken up"`
}

// SourceEdit adds a folder of a device to the plan, changes what it follows, or takes it
// out.
type SourceEdit struct {
	PlanSource
	Set    *SourceRules `json:"set,omitempty" doc:"What its items follow; a source that is in the plan is changed, another is added"`
	Add    bool         `json:"add,omitempty" doc:"Refuse it when the source is in the plan already"`
	Remove bool         `json:"remove,omitempty" doc:"Take it out instead"`
	Try    bool         `json:"try,omitempty" doc:"Only tell what it would change"`
}

// PlanDevice is a device as it stands in the plan.
type PlanDevice struct {
	Device   string `json:"device"`
	Timezone string `json:"timezone" doc:"Its own, empty for the yard's"`
	Limit    string `json:"limit" doc:"How fast it may send, as the plan has it; empty for no bound"`
	Person   string `json:"person" doc:"Whose it is, empty for nobody's in particular"`
	Says     string `json:"says" doc:"How fast it sends and whose hours it keeps, as the words after its name"`
}

// DeviceEdit changes a device of the plan; what is left out stays as it is.
type DeviceEdit struct {
	Device   string  `json:"device"`
	Timezone *string `json:"timezone,omitempty" doc:"Such as Europe/Lisbon; empty for the yard's"`
	Person   *string `json:"person,omitempty" doc:"Whose it is, of the people of the plan; empty for nobody's in particular"`
	Limit    *string `json:"limit,omitempty" doc:"Such as 2 MB/s, or 1 MB/s at 08:00-22:00; 5 MB/s; empty for no bound"`
	Try      bool    `json:"try,omitempty" doc:"Only tell what it would change"`
}

// RuleEdit changes a rule; what is left out stays as it is. It adds one, or takes one
// out that nobody follows.
type RuleEdit struct {
	Base      int64                 `json:"base,omitempty" minimum:"0" doc:"The version of the plan that it was made on; it is refused when another is in force. Without one it is made on whichever is"`
	Rule      string                `json:"rule"`
	Take      []media.Kind          `json:"take,omitempty" enum:"photo,raw,graphic,video,audio,document,other" doc:"The kinds that it takes"`
	To        []string              `json:"to,omitempty" doc:"The destinations that it sends to"`
	Larger    *string               `json:"larger,omitempty" doc:"Only files larger than this, such as 2 GB, or longer; empty for any"`
	Longer    *string               `json:"longer,omitempty" doc:"Only clips longer than this, such as 10 min, or larger; empty for any"`
	Power     *string               `json:"power,omitempty" doc:"As the plan has it, such as charging or at least 40%; empty for any"`
	Hours     *string               `json:"hours,omitempty" doc:"As the plan has it, such as 22:00-06:00; empty for any"`
	Order     *plan.Order           `json:"order,omitempty" enum:"newest,oldest,smallest"`
	Send      map[media.Kind]string `json:"send,omitempty" doc:"The rendition of a kind that is to go otherwise than before, empty for as shot"`
	Lanes     []RuleLane            `json:"lanes,omitempty" doc:"All of them; one that stays over its network keeps its gates"`
	Idle      *bool                 `json:"idle,omitempty" doc:"Only while nobody uses the device"`
	Unused    *string               `json:"unused,omitempty" doc:"Only when nobody used the device for so long, such as 10 min; empty for any"`
	Rest      *string               `json:"rest,omitempty" doc:"Only when it has been on charge and unused for so long, such as 30 min; empty for any"`
	Screen    *string               `json:"screen,omitempty" doc:"off: only while the screen is dark; empty for any"`
	Saver     *string               `json:"saver,omitempty" doc:"off: not while the system saves battery; empty for any"`
	StoreEach *bool                 `json:"storeEach,omitempty" doc:"Store equal files from several places each"`
	Previews  *string               `json:"previews,omitempty" doc:"The rendition of previews to be put beside, empty for none"`
	Also      *[]RuleAlso           `json:"also,omitempty" doc:"All that goes under a second layout, too"`
	OnClash   *plan.Clash           `json:"onClash,omitempty" enum:"name,skip"`
	Bursts    *bool                 `json:"bursts,omitempty" doc:"Make a clip of shots in a row, beside them"`
	// Companions are which parts are to go with an item.
	Companions *[]media.Companion `json:"companions,omitempty" enum:"raw,clip,sidecar,none" doc:"Empty for those whose kind it takes, and sidecars"`
	Device     string             `json:"device,omitempty" doc:"Change what this device has otherwise than the rule says: its lanes, power, hours and idle"`
	Reset      bool               `json:"reset,omitempty" doc:"The device follows the rule as it is"`
	Add        bool               `json:"add,omitempty" doc:"Add it: it takes, goes to and has the lanes that are given"`
	Remove     bool               `json:"remove,omitempty" doc:"Take it out instead"`
	Try        bool               `json:"try,omitempty" doc:"Only tell what it would change"`
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
