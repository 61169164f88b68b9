package plan

// Edit is what one key of the plan is to say, or one part of it.
type Edit struct {
	// Path names the key from the top of the plan: keys, names, places in lists ("#2", from 0; "+" is a new
	// entry at the end), such as rules, everyday, gates, hours.
	Path []string `json:"path" minItems:"1" maxItems:"12" doc:"From the top of the plan: keys, names, places in lists (#2, from 0; + for a new entry), such as rules, everyday, gates, hours"`
	// Value is in the form of JSON; nil takes the key, the name or the entry out.
	Value any  `json:"value,omitempty" doc:"As the plan has it, in JSON: text, a number, true, a list, or keys of its own; nothing takes it out"`
	New   bool `json:"new,omitempty" doc:"Refuse it when the name is there already"`
}
