package wire

// PlanText is a plan as the keeper wrote it.
type PlanText struct {
	Text    string `json:"text" doc:"YAML"`
	Version int64  `json:"version" doc:"1 is the first; each change makes the next"`
}

// PlanChange is a plan that is to take the place of the one in force.
type PlanChange struct {
	Text string `json:"text" doc:"YAML"`
	File string `json:"file,omitempty" doc:"Name to use in messages"`
	Base int64  `json:"base" minimum:"0" doc:"The version that it was made of, 0 before the first; it is refused when another is in force"`
}

// PlanNotes is what follows from a plan that has no mistakes.
type PlanNotes struct {
	Notes []string `json:"notes"`
}

// PlanDraft is a plan that is to be checked.
type PlanDraft struct {
	Text string `json:"text" doc:"YAML"`
	File string `json:"file,omitempty" doc:"Name to use in messages"`
}
