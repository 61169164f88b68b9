package plan

import (
	"encoding/json"
	"fmt"

	"github.com/invopop/jsonschema"
)

// Schema is the plan's JSON Schema (draft 2020-12) for editors. It knows
// shapes and words; that names point somewhere only Parse can tell.
func Schema() ([]byte, error) {
	r := jsonschema.Reflector{ExpandedStruct: true, Anonymous: true}
	s := r.Reflect(&Plan{})
	s.Title = "Yard Tide plan"
	text, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		return nil, fmt.Errorf("writing the plan's schema: %w", err)
	}
	return append(text, '\n'), nil
}

func form(pattern, description string, examples ...any) *jsonschema.Schema {
	return &jsonschema.Schema{Type: "string", Pattern: pattern, Description: description, Examples: examples}
}

// JSONSchemaExtend lets one rule stand alone.
func (Source) JSONSchemaExtend(s *jsonschema.Schema) {
	s.Properties.Set("rule", &jsonschema.Schema{Type: "string", Description: "The one rule that its items follow."})
	s.Required = []string{"folder"}
	s.OneOf = []*jsonschema.Schema{{Required: []string{"rule"}}, {Required: []string{"rules"}}}
}

// JSONSchema describes a day as it stands in a plan.
func (Date) JSONSchema() *jsonschema.Schema {
	return form(dateForm.String(), "A day of the calendar.", "2026-11-25")
}

// JSONSchema describes how long a clip lasts as it stands in a plan.
func (Minutes) JSONSchema() *jsonschema.Schema {
	return form(`(`+minutesForm.String()+`)|^any$`, "A length of time.", "10 min")
}

// JSONSchema describes a number of days as it stands in a plan.
func (Days) JSONSchema() *jsonschema.Schema {
	return form(daysForm.String(), "A number of days.", "3 days")
}

// JSONSchema describes an allowance as it stands in a plan.
func (Allowance) JSONSchema() *jsonschema.Schema {
	return form(allowanceForm.String(), "Bytes this lane may spend in a period.", "45 MB per day", "2 GB per month")
}

// JSONSchema describes hours as they stand in a plan.
func (Hours) JSONSchema() *jsonschema.Schema {
	return form(`^([0-9: ,–-]+|any)$`, "The hours of the day in which to send, also over midnight; any sets the rule's aside.", "06:00-23:00", "22:00-06:00, 12:00-13:30")
}

// JSONSchema describes a power gate as it stands in a plan.
func (Power) JSONSchema() *jsonschema.Schema {
	return form(`(`+powerForm.String()+`)|^any$`, "What the charger and the battery must be; any sets the rule's aside.", "charging", "charging for 30 min", "at least 40%", "charging or at least 40%")
}

// JSONSchema describes the idle gate as it stands in a plan.
func (Idle) JSONSchema() *jsonschema.Schema {
	return &jsonschema.Schema{Type: "boolean", Description: "true: only while nobody uses the device. false: also while somebody does, whatever the rule says."}
}

// JSONSchema describes where a secret is kept.
func (Secret) JSONSchema() *jsonschema.Schema {
	return form(`^(kept:.+|env:.+|file:/.+)$`, "Where the password or the private key is kept; never the secret itself.", "kept:north-locker", "env:LOCKER_PASSWORD", "file:/home/me/.locker-password")
}

// JSONSchema describes a size as it stands in a plan: keep-free is room that is
// never filled, size what a storage holds that does not tell.
func (Size) JSONSchema() *jsonschema.Schema {
	return form(sizeForm.String(), "A number of bytes.", "20 GB", "2 TB")
}

// JSONSchema describes limits as they stand in a plan.
func (Limits) JSONSchema() *jsonschema.Schema {
	return form(`^.+/s.*$`, "How fast the device may send, over all its destinations; with hours, the first that fits counts.", "2 MB/s", "1 MB/s at 08:00-22:00; 5 MB/s")
}

// JSONSchema describes a mark as it stands in a plan.
func (Mark) JSONSchema() *jsonschema.Schema {
	return form(`^(captioned|rated [1-5]|keyword .+)$`, "What an item carries.", "captioned", "rated 4", "keyword regatta")
}

// JSONSchema describes a bitrate as it stands in a plan.
func (Bitrate) JSONSchema() *jsonschema.Schema {
	return form(bitrateForm.String(), "How much a second of a clip may take.", "4 Mbit/s", "800 kbit/s")
}

// JSONSchema describes megapixels as they stand in a plan.
func (Megapixels) JSONSchema() *jsonschema.Schema {
	return &jsonschema.Schema{Type: "number", Description: "Millions of pixels, at most.", Minimum: json.Number("0.01"), Maximum: json.Number("1000"), Examples: []any{3, 0.5}}
}
