package plan

import "fmt"

// WithLayout changes the layout of a destination in a plan's text; the rest stays byte for
// byte. The error is an EditError, or Problems where the plan would have mistakes.
func WithLayout(text, name, layout string) (string, error) {
	want, err := Parse("plan", []byte(text))
	if err != nil {
		return "", err
	}
	d, there := want.Destinations[name]
	switch {
	case !there:
		return "", EditError{fmt.Sprintf("the plan has no destination %q", name)}
	case layout == d.Layout:
		return text, nil
	}
	if err := CheckOwnLayout(layout); err != nil {
		return "", EditError{err.Error()}
	}
	after, err := setValue(text, []string{"destinations", name, "layout"}, quoted(layout))
	if err != nil {
		return "", err
	}
	d.Layout = layout
	want.Destinations[name] = d
	return after, agrees(after, want, errByHand)
}
