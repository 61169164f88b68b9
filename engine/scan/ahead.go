package scan

import "context"

// ahead is what the book knows of the folders that a walk comes to next: a walk of everything asks
// it for many folders at once. Without one, each is asked for.
type ahead struct {
	some  map[string]bool             // folders of which something is known
	known map[string]map[string]Stamp // of those that follow
}

func newAhead(dirs []string) *ahead {
	a := &ahead{some: make(map[string]bool, len(dirs))}
	for _, dir := range dirs {
		a.some[dir] = true
	}
	return a
}

// in are the known files of a folder, by name.
func (a *ahead) in(ctx context.Context, b Book, dir string) (known map[string]Stamp, err error) {
	if a == nil {
		return b.Dir(ctx, dir)
	}
	if !a.some[dir] {
		return map[string]Stamp{}, nil
	}
	if known, is := a.known[dir]; is {
		delete(a.known, dir)
		return known, nil
	}
	if a.known, err = b.From(ctx, dir); err != nil {
		return nil, err
	}
	if known = a.known[dir]; known == nil {
		known = map[string]Stamp{}
	}
	delete(a.known, dir)
	return known, nil
}

// forget lets go of what is known ahead: some of it is gone.
func (a *ahead) forget() {
	if a != nil {
		a.known = nil
	}
}
