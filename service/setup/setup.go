// Package setup keeps a household's first plan as it is being made, step by step: a draft of a plan's text, changed
// by the same edits as a plan, so that a reload, another browser or a restart goes on where it was left. It becomes
// the plan when it is started, and not before.
package setup

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"yardtide/core/forecast"
	"yardtide/core/gate"
	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/plantext"
	"yardtide/core/words"
	"yardtide/engine/atomicfile"
	"yardtide/service/jobs"
	"yardtide/service/planbook"
	"yardtide/service/vault"
	"yardtide/wire"
	"yardtide/wire/planwire"
)

// Options make a set-up.
type Options struct {
	Dir  string // the data directory
	Book *planbook.Book
	Jobs *jobs.Jobs
	// First is this computer as a device, "" where it is none; Joined are the devices elsewhere. Device finds one.
	First  string
	Joined func() []string
	Device func(name string) (Device, bool)
	Doubts func(ctx context.Context, p *plan.Plan) ([]words.Doubt, error)
	// Keep keeps the secrets of a place, Forget forgets them.
	Keep   func(draft wire.Draft) error
	Forget func(name string) error
	Tell   func() // the set-up changed
}

// Device is what a set-up needs of a device.
type Device interface {
	Folder(source string) string
	Usual() []wire.UsualFolder
	Look(ctx context.Context, folder string, set *plan.Source, tell func(wire.Look)) error
	Status(ctx context.Context) (wire.Device, error)
	// Samples makes forms of some pictures, and tells what came of them by the names of the forms.
	Samples(ctx context.Context, files []string, forms map[string]plan.Rendition) (map[string][]forecast.Sample, error)
}

// Setup is the first plan of a household. It is safe for concurrent use.
type Setup struct {
	Options

	mu     sync.Mutex
	loaded bool
	now    planwire.Setup
}

// The steps of the first hour.
const (
	stepWhose = 1 + iota
	stepWhere
	stepWhat
	stepHow
	stepWhen
	stepNames
	stepSaid
)

// ErrStale tells that the set-up is no longer what was said back.
var ErrStale = errors.New("the set-up was changed meanwhile; look at what it says now, then start it")

// ErrThere tells that there is a plan already.
var ErrThere = errors.New("there is a plan already; change it on the page Plan")

// Refused tells why something cannot be part of the set-up.
type Refused struct{ Says string }

func (e Refused) Error() string { return e.Says }

func (s *Setup) file() string { return filepath.Join(s.Dir, "setup.json") }

// everyday is the one rule of a set-up.
const everyday = "everyday"

// begun is the set-up as it is kept, or a new one. The caller has the lock.
func (s *Setup) begun() (*planwire.Setup, error) {
	if s.loaded {
		return &s.now, nil
	}
	s.now = planwire.Setup{Step: stepWhose, Device: s.First, Places: []planwire.SetupPlace{},
		Folders: []planwire.SetupFolder{}, Draft: plantext.Compose(&plan.Plan{
			Yard: "Home", Timezone: ZoneName(), Rules: map[string]plan.Rule{everyday: {Take: []media.Kind{media.Photo, media.Raw,
				media.Video}, Lanes: []plan.Lane{{Over: plan.WiFi}}}},
		})}
	text, err := os.ReadFile(s.file())
	switch {
	case err == nil:
		fresh := s.now.Draft
		s.now.Draft = ""
		var asked struct{ Whose *planwire.SetupWhose }
		if err := errors.Join(json.Unmarshal(text, &s.now), json.Unmarshal(text, &asked)); err != nil {
			return nil, fmt.Errorf("reading the set-up in %s: %w; remove that file to begin anew", s.file(), err)
		}
		if asked.Whose == nil { // of an earlier version, which did not ask
			s.now.Whose, s.now.Step = planwire.SetupHere, min(s.now.Step+1, stepSaid)
			for i := range s.now.Folders {
				s.now.Folders[i].Device = s.now.Device
			}
		}
		if s.now.Draft == "" { // of an earlier version: the folders that it has go on, the rest is asked for again
			s.now.Draft, s.now.Step, s.now.Places = fresh, stepWhose, []planwire.SetupPlace{}
			if err := s.withSources(&s.now); err != nil {
				return nil, fmt.Errorf("taking over the set-up in %s: %w; remove that file to begin anew", s.file(), err)
			}
		}
	case !errors.Is(err, fs.ErrNotExist):
		return nil, fmt.Errorf("reading the set-up: %w", err)
	}
	for i := range s.now.Folders { // who looked at them is gone
		s.now.Folders[i].Counting, s.now.Folders[i].Job = false, ""
		if s.now.Folders[i].Libraries == nil { // kept by an earlier version
			s.now.Folders[i].Libraries = []wire.LookLibrary{}
		}
	}
	s.loaded = true
	return &s.now, nil
}

// change changes the set-up and keeps it; what fails changes nothing.
func (s *Setup) change(change func(*planwire.Setup) error) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	now, err := s.begun()
	if err != nil {
		return err
	}
	next := *now
	next.Places, next.Folders = slices.Clone(now.Places), slices.Clone(now.Folders)
	if err := change(&next); err != nil {
		return err
	}
	next.Version++
	if err := s.keep(next); err != nil {
		return err
	}
	*now = next
	s.Tell()
	return nil
}

func (s *Setup) keep(now planwire.Setup) error {
	text, err := json.MarshalIndent(now, "", " ")
	if err != nil {
		return fmt.Errorf("keeping the set-up: %w", err)
	}
	if err := atomicfile.Write(s.file(), string(text)+"\n"); err != nil {
		return fmt.Errorf("keeping the set-up: %w", err)
	}
	return nil
}

// keepCounts keeps what was counted. The version stays: the keeper changed nothing, and
// what they see may be started.
func (s *Setup) keepCounts() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	now, err := s.begun()
	if err != nil {
		return err
	}
	return s.keep(*now)
}

// Now tells how far the set-up is, and what it would come to.
func (s *Setup) Now(ctx context.Context) (planwire.SetupNow, error) {
	s.mu.Lock()
	kept, err := s.begun()
	if err != nil {
		s.mu.Unlock()
		return planwire.SetupNow{}, err
	}
	now := planwire.SetupNow{Setup: *kept, Battery: gate.Unknown, Modem: gate.Unknown}
	now.Folders = slices.Clone(kept.Folders)
	s.mu.Unlock()
	now.InForce = s.Book.Plan() != nil
	if err := s.tellDevices(ctx, &now); err != nil {
		return now, err
	}
	return now, s.tell(ctx, &now)
}

// devices are those whose folders a set-up asks for: this computer first.
func (s *Setup) devices(now *planwire.Setup) (names []string) {
	if now.Whose != planwire.SetupElsewhere && now.Device != "" {
		names = append(names, now.Device)
	}
	if now.Whose == planwire.SetupElsewhere || now.Whose == planwire.SetupBoth {
		names = append(names, s.Joined()...)
	}
	return names
}

// tellDevices tells of the devices whose folders a set-up asks for, and what they have.
func (s *Setup) tellDevices(ctx context.Context, now *planwire.SetupNow) error {
	now.Devices = []planwire.SetupDevice{}
	for _, name := range s.devices(&now.Setup) {
		d, is := s.Device(name)
		if !is {
			continue
		}
		st, err := d.Status(ctx)
		if err != nil {
			return err
		}
		one := planwire.SetupDevice{Name: name, Here: name == now.Device, Modem: st.Modem, Battery: gate.Unknown,
			Connected: st.Link == nil || st.Link.Connected}
		if one.Here || st.Conditions.Battery >= 0 {
			one.Battery = gate.Is(st.Conditions.Battery >= 0)
		}
		now.Devices = append(now.Devices, one)
	}
	some := func(of func(planwire.SetupDevice) gate.Known) gate.Known {
		has := func(k gate.Known) bool {
			return slices.ContainsFunc(now.Devices, func(d planwire.SetupDevice) bool { return of(d) == k })
		}
		switch {
		case has(gate.Yes):
			return gate.Yes
		case has(gate.Unknown) || len(now.Devices) == 0:
			return gate.Unknown
		}
		return gate.No
	}
	now.Modem = some(func(d planwire.SetupDevice) gate.Known { return d.Modem })
	now.Battery = some(func(d planwire.SetupDevice) gate.Known { return d.Battery })
	if d, is := s.Device(now.Device); is {
		missingFolders(d, now)
	}
	now.Folders = slices.DeleteFunc(now.Folders, func(f planwire.SetupFolder) bool {
		return !slices.ContainsFunc(now.Devices, func(d planwire.SetupDevice) bool { return d.Name == f.Device })
	})
	return nil
}

// Change changes what is given of the set-up. The errors are ErrThere, Refused and plantext.EditError.
func (s *Setup) Change(c planwire.SetupChange) error {
	if s.Book.Plan() != nil {
		return ErrThere
	}
	err := s.change(func(now *planwire.Setup) (err error) {
		if c.Step != nil {
			now.Step = *c.Step
		}
		if c.Whose != nil {
			if *c.Whose != planwire.SetupElsewhere && now.Device == "" {
				return Refused{"this computer takes up nothing of its own: start the service with -device and -root"}
			}
			now.Whose = *c.Whose
			if err := s.withSources(now); err != nil {
				return err
			}
		}
		for _, e := range c.Edits {
			if !mayEdit(now, e.Path) {
				return Refused{"the set-up has no " + strings.Join(e.Path, ", ")}
			}
		}
		if c.Form != nil {
			if err := setForm(now, *c.Form); err != nil {
				return err
			}
		}
		if now.Draft, err = plantext.SetDraft(now.Draft, c.Edits...); err != nil || c.On == nil {
			return err
		}
		device := cmp.Or(c.On.Device, now.Device)
		i := slices.IndexFunc(now.Folders, func(f planwire.SetupFolder) bool {
			return f.Folder == c.On.Folder && f.Device == device
		})
		switch {
		case c.On.Forget && i >= 0:
			now.Folders = slices.Delete(now.Folders, i, i+1)
		case i >= 0:
			now.Folders[i].On = c.On.On
		case !c.On.Forget:
			err = s.addFolder(now, device, c.On.Folder, c.On.On)
		}
		return errors.Join(err, s.withSources(now))
	})
	if err != nil {
		return err
	}
	if c.Step != nil && *c.Step >= stepWhat {
		if err := s.offerUsual(); err != nil {
			return err
		}
	}
	return s.lookAtFolders()
}

// setForm has pictures or clips go to a place in another form.
func setForm(now *planwire.Setup, f planwire.SetupFormAt) error {
	i := slices.IndexFunc(now.Places, func(p planwire.SetupPlace) bool { return p.Name == f.Place })
	if i < 0 {
		return Refused{fmt.Sprintf("there is no place %q", f.Place)}
	}
	if f.Form != nil {
		if _, is := forms[*f.Form]; !is && *f.Form != "" {
			return Refused{fmt.Sprintf("there is no form %q", *f.Form)}
		}
		now.Places[i].Form = *f.Form
	}
	if f.Clips != nil {
		if !slices.Contains(heights, *f.Clips) {
			return Refused{fmt.Sprintf("clips are not offered at %d", *f.Clips)}
		}
		now.Places[i].Clips = *f.Clips
	}
	return withPlaces(now)
}

// mayEdit tells whether a key of the draft is the keeper's to change by itself: folders and places are switched and
// tried.
func mayEdit(now *planwire.Setup, path []string) bool {
	switch {
	case len(path) == 1:
		return path[0] == "yard"
	case len(path) == 3 && path[0] == "destinations":
		return path[2] == "layout" && slices.ContainsFunc(now.Places,
			func(p planwire.SetupPlace) bool { return p.Name == path[1] })
	}
	return len(path) > 2 && path[0] == "rules" && path[1] == everyday && path[2] != "to"
}

// withSources writes the folders that are on into the draft, as the sources of their devices.
func (s *Setup) withSources(now *planwire.Setup) (err error) {
	sources := map[string][]any{}
	asked := s.devices(now)
	for _, f := range now.Folders {
		if !f.On || !slices.Contains(asked, f.Device) {
			continue
		}
		source := map[string]any{"folder": f.Folder, "rules": []string{everyday}}
		libraries := []string{}
		for _, l := range f.Libraries {
			libraries = append(libraries, l.Folder)
		}
		if len(libraries) > 0 {
			source["originals-only"] = libraries
		}
		sources[f.Device] = append(sources[f.Device], source)
	}
	there := plantext.Draft(now.Draft).Devices
	var edits []plan.Edit
	for _, name := range slices.Sorted(maps.Keys(there)) {
		if len(sources[name]) == 0 && (name != now.Device || !slices.Contains(asked, name)) {
			edits = append(edits, plan.Edit{Path: []string{"devices", name}})
		}
	}
	for _, name := range asked {
		if _, is := there[name]; is && name == now.Device || len(sources[name]) > 0 {
			edits = append(edits, plan.Edit{Path: []string{"devices", name}, Value: map[string]any{"sources": sources[name]}})
		}
	}
	if len(edits) == 0 {
		return nil
	}
	now.Draft, err = plantext.SetDraft(now.Draft, edits...)
	return err
}

// withPlaces has the one rule send to every place, in the form that is chosen for it.
func withPlaces(now *planwire.Setup) (err error) {
	to := []string{}
	used := map[string]map[string]any{}
	for _, p := range now.Places {
		name, form := formAt(p)
		if name == "" {
			to = append(to, p.Name)
			continue
		}
		to, used[name] = append(to, p.Name+" as "+name), form
	}
	there := plantext.Draft(now.Draft).Renditions
	var first, last []plan.Edit // a rule names only renditions that are there
	for _, name := range slices.Sorted(maps.Keys(used)) {
		if _, is := there[name]; !is {
			first = append(first, plan.Edit{Path: []string{"renditions", name}, Value: used[name]})
		}
	}
	for _, name := range slices.Sorted(maps.Keys(there)) {
		if used[name] == nil {
			last = append(last, plan.Edit{Path: []string{"renditions", name}})
		}
	}
	edits := append(first, plan.Edit{Path: []string{"rules", everyday, "to"}, Value: to})
	now.Draft, err = plantext.SetDraft(now.Draft, append(edits, last...)...)
	return err
}

// formAt is the rendition in which things go to a place, by its name and as a plan writes it; "" for as shot.
func formAt(p planwire.SetupPlace) (name string, form map[string]any) {
	form = map[string]any{}
	if p.Form != "" {
		name, form["long-edge"] = p.Form, forms[p.Form].LongEdge
	}
	if p.Clips > 0 {
		name, form["height"] = strings.TrimPrefix(fmt.Sprintf("%s-clips-%d", p.Form, p.Clips), "-"), p.Clips
	}
	return name, form
}

// forms are those that a set-up offers beside as shot: for a large screen, for any screen, and for a small storage.
var forms = map[string]plan.Rendition{"large": {LongEdge: 3840}, "medium": {LongEdge: 2560}, "small": {LongEdge: 1600}}

// formOrder are they, the largest first; heights are those of clips, as shot first.
var (
	formOrder = []string{"large", "medium", "small"}
	heights   = []int{0, 1080, 720}
)

// mostSetupFolders is how many folders a set-up may have.
const mostSetupFolders = 100

// addFolder puts one more folder of a device into the set-up, as a plan would name it.
func (s *Setup) addFolder(now *planwire.Setup, device, folder string, on bool) error {
	folder = strings.TrimSpace(folder)
	d, is := s.Device(device)
	switch {
	case !is || !slices.Contains(s.devices(now), device):
		return Refused{fmt.Sprintf("the set-up asks for no folders of a device %q", device)}
	case folder == "" || strings.ContainsFunc(folder, func(r rune) bool { return r < ' ' || r == 0x7f || r == 0xfffd }):
		return Refused{"name a folder, by its path"}
	case slices.Contains(strings.Split(folder, "/"), ".."):
		return Refused{fmt.Sprintf("%q leaves its folder; write it without ..", folder)}
	case len(now.Folders) >= mostSetupFolders:
		return Refused{"there are too many folders; take some out first"}
	}
	folder = path.Clean(strings.TrimPrefix(folder, "~/"))
	where := folder // of a device elsewhere it is known when it was looked at
	if device == now.Device {
		where = d.Folder(folder)
	}
	for _, f := range now.Folders {
		switch {
		case f.Device != device:
		case f.Path == where || f.Folder == folder:
			return Refused{fmt.Sprintf("%s is in the list already", where)}
		case f.On && on && (plan.Inside(f.Path, where) || plan.Inside(where, f.Path)):
			return Refused{fmt.Sprintf("%s and %s lie in one another; take one of them out first", where, f.Path)}
		}
	}
	if device == now.Device {
		if info, err := os.Stat(where); err != nil || !info.IsDir() {
			return Refused{fmt.Sprintf("there is no folder %s", where)}
		}
	}
	now.Folders = append(now.Folders, emptyFolder(device, folder, where, on))
	return nil
}

func emptyFolder(device, folder, where string, on bool) planwire.SetupFolder {
	return planwire.SetupFolder{Device: device, Folder: folder, Path: where, On: on, Kinds: []wire.LookKind{}, Years: []wire.LookYear{},
		Folders: []wire.LookFolder{}, Pictures: []wire.LookPicture{}, Libraries: []wire.LookLibrary{}}
}

// offerUsual puts the usual folders of each device into a set-up that has none of it.
func (s *Setup) offerUsual() error {
	s.mu.Lock()
	now, err := s.begun()
	if err != nil {
		s.mu.Unlock()
		return err
	}
	var bare []string
	for _, name := range s.devices(now) {
		if !slices.ContainsFunc(now.Folders, func(f planwire.SetupFolder) bool { return f.Device == name }) {
			bare = append(bare, name)
		}
	}
	s.mu.Unlock()
	usual := map[string][]wire.UsualFolder{}
	for _, name := range bare { // one elsewhere is asked, and may take its time
		if d, is := s.Device(name); is {
			usual[name] = d.Usual()
		}
	}
	return s.change(func(now *planwire.Setup) error {
		for _, name := range bare {
			if slices.ContainsFunc(now.Folders, func(f planwire.SetupFolder) bool { return f.Device == name }) {
				continue
			}
			for _, u := range usual[name] {
				on := u.Folder == "CAMERA" || u.Folder == "PICTURES" || u.Folder == "VIDEOS"
				now.Folders = append(now.Folders, emptyFolder(name, u.Folder, u.Path, on))
			}
		}
		return s.withSources(now)
	})
}

// lookAtFolders begins to look at what was not looked at.
func (s *Setup) lookAtFolders() error {
	s.mu.Lock()
	now, err := s.begun()
	if err != nil {
		s.mu.Unlock()
		return err
	}
	type ofDevice struct{ device, folder string }
	var todo []ofDevice
	for i, f := range now.Folders {
		if f.Job == "" && !f.Counting {
			now.Folders[i].Counting = true
			todo = append(todo, ofDevice{f.Device, f.Folder})
		}
	}
	s.mu.Unlock()
	for _, one := range todo {
		if d, is := s.Device(one.device); is {
			s.lookAt(d, one.device, one.folder)
		}
	}
	s.Tell()
	return nil
}

// lookAt begins to look at a folder of a device.
func (s *Setup) lookAt(d Device, device, folder string) {
	job, err := s.Jobs.Begin(wire.Job{Kind: wire.JobLook, Says: "It is looked at."}, true,
		func(ctx context.Context, tell func(func(*wire.Job))) error {
			found, pictures, clips, where := false, []wire.LookPicture(nil), []wire.LookPicture(nil), ""
			err := d.Look(ctx, folder, nil, func(l wire.Look) {
				tell(func(is *wire.Job) { jobs.TellLook(is, l) })
				s.counted(device, folder, func(f *planwire.SetupFolder) {
					f.Path, f.All, f.Kinds, f.Years, f.Folders, f.Pictures, f.Libraries = cmp.Or(l.Path, f.Path), l.All, l.Kinds,
						l.Years, l.Folders, l.Pictures, l.Libraries
					found, pictures, clips, where = len(l.Libraries) > 0, l.Pictures, l.Clips, l.Path
				})
			})
			s.counted(device, folder, func(f *planwire.SetupFolder) { f.Samples = map[string][]forecast.Sample{} })
			for _, one := range []struct {
				files []string
				forms map[string]plan.Rendition
			}{{filesOf(where, pictures), forms}, {filesOf(where, clips), clipForms()}} { // clips take longer
				if err != nil || len(one.files) == 0 {
					continue
				}
				var samples map[string][]forecast.Sample
				samples, err = d.Samples(ctx, one.files, one.forms)
				s.counted(device, folder, func(f *planwire.SetupFolder) {
					f.Samples = maps.Clone(f.Samples) // what was told before is read still
					maps.Copy(f.Samples, samples)
				})
				s.Tell()
			}
			s.counted(device, folder, func(f *planwire.SetupFolder) {
				f.Counting, f.Problem = false, ""
				if err != nil && ctx.Err() == nil {
					f.Problem = sentenceOf(err)
				}
			})
			if s.Book.Plan() != nil {
				return err
			}
			if found { // the draft takes only their originals
				return errors.Join(err, s.change(s.withSources))
			}
			return errors.Join(err, s.keepCounts())
		})
	s.counted(device, folder, func(f *planwire.SetupFolder) {
		if f.Job = job.ID; err != nil {
			f.Counting, f.Problem = false, sentenceOf(err)
		}
	})
}

// clipForms are the forms of clips that are offered, by their names among the samples.
func clipForms() map[string]plan.Rendition {
	all := map[string]plan.Rendition{}
	for _, height := range heights[1:] {
		all[clipForm(height)] = plan.Rendition{Height: height}
	}
	return all
}

// clipForm is the name of a form of clips among the samples.
func clipForm(height int) string { return fmt.Sprintf("clips %d", height) }

// filesOf are where pictures lie that a look found.
func filesOf(where string, pictures []wire.LookPicture) []string {
	files := make([]string, len(pictures))
	for i, p := range pictures {
		files[i] = filepath.Join(where, filepath.FromSlash(p.Path))
	}
	return files
}

// counted takes over what a look found; a folder that was taken out meanwhile is left.
func (s *Setup) counted(device, folder string, take func(*planwire.SetupFolder)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for i := range s.now.Folders {
		if s.now.Folders[i].Folder == folder && s.now.Folders[i].Device == device {
			take(&s.now.Folders[i])
		}
	}
}

// AddPlace puts a place into the set-up that a trial found good, and keeps its
// secrets.
func (s *Setup) AddPlace(a planwire.SetupAdd) error {
	if s.Book.Plan() != nil {
		return ErrThere
	}
	draft := vault.WithSecrets(a.Draft)
	if err := plantext.CheckDestination(draft.Name, draft.Destination); err != nil {
		return err
	}
	job, err := s.Jobs.Get(a.Job)
	if err != nil {
		return err
	}
	if job.Trial == nil || !job.Trial.OK || job.Trial.Where != draft.Destination.Where() {
		return Refused{draft.Name + " was not tried with success; test it first"}
	}
	return s.change(func(now *planwire.Setup) (err error) {
		p, layout := plantext.Draft(now.Draft), plan.DefaultLayout
		for name, d := range p.Destinations {
			switch layout = d.Layout; {
			case name == draft.Name:
				return Refused{fmt.Sprintf("there is a place %q already; take another name", name)}
			case d.Where() == draft.Destination.Where():
				return Refused{fmt.Sprintf("that is the same place as %s: a second one is of use when it lies elsewhere", name)}
			}
		}
		draft.Destination.Layout = layout // they all have one
		one := planwire.SetupPlace{Name: draft.Name, Free: -1, Rate: job.Trial.Rate}
		if job.Trial.Space != nil {
			one.Free = job.Trial.Space.Free
		}
		now.Places = append(now.Places, one)
		if now.Draft, err = plantext.SetDraft(now.Draft, plan.Edit{Path: []string{"destinations", draft.Name},
			Value: plantext.DestinationValue(draft.Destination)}); err != nil {
			return err
		}
		return errors.Join(withPlaces(now), s.Keep(draft))
	})
}

// RemovePlace takes a place out of the set-up and forgets its secrets.
func (s *Setup) RemovePlace(name string) error {
	if s.Book.Plan() != nil {
		return ErrThere
	}
	err := s.change(func(now *planwire.Setup) (err error) {
		n := len(now.Places)
		if now.Places = slices.DeleteFunc(now.Places,
			func(p planwire.SetupPlace) bool { return p.Name == name }); len(now.Places) == n {
			return Refused{fmt.Sprintf("there is no place %q", name)}
		}
		if err := withPlaces(now); err != nil {
			return err
		}
		now.Draft, err = plantext.SetDraft(now.Draft, plan.Edit{Path: []string{"destinations", name}})
		return err
	})
	if err != nil {
		return err
	}
	return s.Forget(name)
}

// Start puts what was said back in force, as the first plan.
func (s *Setup) Start(ctx context.Context, o planwire.SetupStart) error {
	now, err := s.Now(ctx)
	switch {
	case err != nil:
		return err
	case now.InForce:
		return ErrThere
	case now.Version != o.Version:
		return ErrStale
	case now.Text == "":
		return Refused{now.Missing[0].Says}
	}
	if _, err := s.Book.Apply(ctx, "plan.yaml", now.Text, 0); err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.loaded = false
	if err := os.Remove(s.file()); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("ending the set-up: %w", err)
	}
	return nil
}
