package plan

import (
	"fmt"
	"slices"
)

// DeviceChange is what of a device is to be otherwise; nil stays as it is. Texts are
// written as in the plan, "" sets none.
type DeviceChange struct {
	Timezone *string
	Limit    *string
	Person   *string
}

// WithDevice changes a device in a plan's text; what is not touched stays byte for
// byte. The error is an EditError, or Problems where the plan would have mistakes.
func WithDevice(text, name string, c DeviceChange) (string, error) {
	before, err := Parse("plan", []byte(text))
	if err != nil {
		return "", err
	}
	want, there := before.Devices[name]
	if !there {
		return "", EditError{fmt.Sprintf("the plan has no device %q", name)}
	}
	after := text
	if c.Timezone != nil && *c.Timezone != want.Timezone {
		want.Timezone = *c.Timezone
		value := ""
		if *c.Timezone != "" {
			value = quoted(*c.Timezone)
		}
		if after, err = setValue(after, []string{"devices", name, "timezone"}, value); err != nil {
			return "", err
		}
	}
	if c.Limit != nil && *c.Limit != want.Limit.String() {
		if want.Limit, err = orNone(*c.Limit, ParseLimits); err != nil {
			return "", EditError{err.Error()}
		}
		value := ""
		if *c.Limit != "" {
			value = `"` + want.Limit.String() + `"`
		}
		if after, err = setValue(after, []string{"devices", name, "limit"}, value); err != nil {
			return "", err
		}
	}
	if c.Person != nil && *c.Person != want.Person {
		want.Person = *c.Person
		value := ""
		if *c.Person != "" {
			value = quoted(*c.Person)
		}
		if after, err = setValue(after, []string{"devices", name, "person"}, value); err != nil {
			return "", err
		}
		if *c.Person != "" && !slices.Contains(before.People, *c.Person) { // it is new
			before.People = append(before.People, *c.Person)
			if after, err = setValue(after, []string{"people"}, flowList(before.People)); err != nil {
				return "", err
			}
		}
	}
	before.Devices[name] = want
	if err := agrees(after, before, errByHand); err != nil {
		return "", err
	}
	return after, nil
}

// WithRenamedDevice calls a device otherwise in a plan's text; the rest stays byte for
// byte. The error is an EditError, or Problems where the plan would have mistakes.
func WithRenamedDevice(text, name, to string) (string, error) {
	want, err := Parse("plan", []byte(text))
	if err != nil {
		return "", err
	}
	device, there := want.Devices[name]
	if !there {
		return "", EditError{fmt.Sprintf("the plan has no device %q", name)}
	}
	if err := mayBeNew(want, to); err != nil {
		return "", err
	}
	after, err := setKey(text, []string{"devices", name}, to)
	if err != nil {
		return "", err
	}
	delete(want.Devices, name)
	want.Devices[to] = device
	return after, agrees(after, want, errByHand)
}

// mayBeNew refuses a name that no further device of the plan can have.
func mayBeNew(p *Plan, name string) error {
	if _, there := p.Devices[name]; there {
		return EditError{fmt.Sprintf("the plan has a device %q already", name)}
	}
	if !IsName(name) {
		return EditError{fmt.Sprintf("%q cannot be the name of a device; it would be letters, digits, dots and dashes, at most 63", name)}
	}
	return nil
}

// WithNewDevice adds a device with its first source to a plan's text; the rest stays byte
// for byte. The error is an EditError, or Problems where the plan would have mistakes.
func WithNewDevice(text, name string, first Source) (string, error) {
	before, err := Parse("plan", []byte(text))
	if err != nil {
		return "", err
	}
	if err := mayBeNew(before, name); err != nil {
		return "", err
	}
	first = first.plain()
	after, err := setValue(text, []string{"devices", name, "sources"}, "["+first.written()+"]")
	if err != nil {
		return "", err
	}
	before.Devices[name] = Device{Sources: []Source{first}}
	return after, agrees(after, before, errByHand)
}
