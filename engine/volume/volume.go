// Package volume knows the cards, cameras, phones and disks that come and go: where each is, and which one it is, by
// its own identity and not by where it is mounted. It writes nothing.
package volume

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"yardtide/core/media"
)

// Volume is one that is there.
type Volume struct {
	ID    string `json:"id"`    // its own, such as 4F3A-11C2; it stays when the volume comes again elsewhere
	Label string `json:"label"` // what people called it, "" for nothing
	Root  string `json:"root"`  // where it is now
}

// Lister lists the volumes that are there, and tells when that may have changed.
type Lister interface {
	List() []Volume
	// Changed waits until volumes may have come or gone, or the context ends.
	Changed(ctx context.Context)
}

// Names that the design rule for camera file systems has (JEITA CP-3461, 3.2): of the folder that holds the pictures,
// and of the folders in it.
var (
	images = "DCIM"
	folder = regexp.MustCompile(`^[1-9]\d\d[0-9A-Z_]{5}$`)
)

// Camera is the folder of a volume that holds a camera's folders, "" where it has none: DCIM in whatever case, with a
// folder in it that is called as the rule has it, or in which pictures or clips lie.
func Camera(root string) string {
	list, err := os.ReadDir(root)
	if err != nil {
		return ""
	}
	for _, e := range list {
		if !e.IsDir() || !strings.EqualFold(e.Name(), images) {
			continue
		}
		in := filepath.Join(root, e.Name())
		folders, err := os.ReadDir(in)
		if err != nil {
			continue
		}
		for _, f := range folders {
			if f.IsDir() && (folder.MatchString(strings.ToUpper(f.Name())) || holdsMedia(filepath.Join(in, f.Name()))) {
				return in
			}
		}
	}
	return ""
}

// mostAsked is how many files of a folder are asked for.
const mostAsked = 200

func holdsMedia(dir string) bool {
	f, err := os.Open(dir)
	if err != nil {
		return false
	}
	defer f.Close()
	list, _ := f.ReadDir(mostAsked)
	return slices.ContainsFunc(list, func(e os.DirEntry) bool {
		_, is := media.OfName(e.Name())
		return is && e.Type().IsRegular()
	})
}

// idForm is what an identity may be: it stands in plans and in the names of sources.
var idForm = regexp.MustCompile(`^[0-9A-Za-z][0-9A-Za-z._-]{2,63}$`)

// idOf makes an identity of a name that a system gives.
func idOf(name string) string {
	var b strings.Builder
	for _, r := range name {
		if r < 0x80 && (r >= '0' && r <= '9' || r >= 'A' && r <= 'Z' || r >= 'a' && r <= 'z') {
			b.WriteRune(r)
		} else if s := b.String(); s != "" && !strings.HasSuffix(s, "-") {
			b.WriteByte('-')
		}
	}
	s := strings.Trim(b.String(), "-")
	return s[:min(len(s), 60)]
}

// sound are the volumes of a list with an identity that can stand in a plan, each once: two with one identity are
// copies of one another, and nobody can tell which is which, so neither is told.
func sound(list []Volume) []Volume {
	times := map[string]int{}
	for _, v := range list {
		times[v.ID]++
	}
	return slices.DeleteFunc(list, func(v Volume) bool { return !idForm.MatchString(v.ID) || times[v.ID] > 1 })
}

// Written is a lister whose volumes stand in a file, as JSON under "volumes": what simulates a device writes it.
type Written struct{ Name string }

// List implements Lister.
func (w Written) List() []Volume {
	var is struct{ Volumes []Volume }
	text, err := os.ReadFile(w.Name)
	if err != nil || json.Unmarshal(text, &is) != nil {
		return nil
	}
	return sound(is.Volumes)
}

// beat is how often is looked where nothing tells of a change.
const beat = 250 * time.Millisecond

// Changed implements Lister.
func (w Written) Changed(ctx context.Context) {
	before, _ := os.Stat(w.Name)
	tick := time.NewTicker(beat)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		now, err := os.Stat(w.Name)
		if err == nil && (before == nil || !os.SameFile(before, now) || !now.ModTime().Equal(before.ModTime())) {
			return
		}
	}
}
