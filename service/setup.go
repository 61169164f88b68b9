package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"yardtide/core/gate"
	"yardtide/core/media"
	"yardtide/core/naming"
	"yardtide/core/plan"
	"yardtide/core/plantext"
	"yardtide/core/sentences"
	"yardtide/engine/atomicfile"
	"yardtide/service/vault"
	"yardtide/wire"
)

// This file keeps the first plan as it is being made, step by step, so that a reload,
// another browser or a restart goes on where it was left. It becomes the plan when it
// is started, and not before.

// setup is the plan that is being made. The zero value is not loaded yet.
type setup struct {
	mu     sync.Mutex
	loaded bool
	now    wire.Setup
}

// The steps of the first hour.
const (
	stepWhere = 1 + iota
	stepWhat
	stepHow
	stepWhen
	stepNames
	stepSaid
)

// ErrStaleSetup tells that the set-up is no longer what was said back.
var ErrStaleSetup = errors.New("the set-up was changed meanwhile; look at what it says now, then start it")

// ErrSetUp tells that there is a plan already.
var ErrSetUp = errors.New("there is a plan already; change it on the page Plan")

// SetupRefused tells why something cannot be part of the set-up.
type SetupRefused struct{ Says string }

func (e SetupRefused) Error() string { return e.Says }

func (s *Service) setupFile() string { return filepath.Join(s.Dir, "setup.json") }

// begun is the set-up as it is kept, or a new one. The caller has the lock.
func (s *Service) begun() (*wire.Setup, error) {
	u := &s.setup
	if u.loaded {
		return &u.now, nil
	}
	u.now = wire.Setup{Step: stepWhere, Yard: "Home", Places: []wire.SetupPlace{}, Folders: []wire.SetupFolder{}, Take: []media.Kind{media.Photo, media.Raw, media.Video}, Layout: plan.DefaultLayout}
	if len(s.Devices()) > 0 {
		u.now.Device = s.Devices()[0].DeviceName()
	}
	text, err := os.ReadFile(s.setupFile())
	switch {
	case err == nil:
		if err := json.Unmarshal(text, &u.now); err != nil {
			return nil, fmt.Errorf("reading the set-up in %s: %w; remove that file to begin anew", s.setupFile(), err)
		}
	case !errors.Is(err, fs.ErrNotExist):
		return nil, fmt.Errorf("reading the set-up: %w", err)
	}
	for i := range u.now.Folders { // who looked at them is gone
		u.now.Folders[i].Counting, u.now.Folders[i].Job = false, ""
	}
	u.loaded = true
	return &u.now, nil
}

// changeSetup changes the set-up and keeps it; what fails changes nothing.
func (s *Service) changeSetup(change func(*wire.Setup) error) error {
	s.setup.mu.Lock()
	defer s.setup.mu.Unlock()
	now, err := s.begun()
	if err != nil {
		return err
	}
	next := *now
	next.Places, next.Folders, next.Take = slices.Clone(now.Places), slices.Clone(now.Folders), slices.Clone(now.Take)
	if err := change(&next); err != nil {
		return err
	}
	next.Version++
	if err := s.keepSetup(next); err != nil {
		return err
	}
	*now = next
	return nil
}

func (s *Service) keepSetup(now wire.Setup) error {
	text, err := json.MarshalIndent(now, "", " ")
	if err != nil {
		return fmt.Errorf("keeping the set-up: %w", err)
	}
	if err := atomicfile.Write(s.setupFile(), string(text)+"\n"); err != nil {
		return fmt.Errorf("keeping the set-up: %w", err)
	}
	return nil
}

// keepCounts keeps what was counted. The version stays: the keeper changed nothing, and
// what they see may be started.
func (s *Service) keepCounts() error {
	s.setup.mu.Lock()
	defer s.setup.mu.Unlock()
	now, err := s.begun()
	if err != nil {
		return err
	}
	return s.keepSetup(*now)
}

// Setup tells how far the set-up is, and what it would come to.
func (s *Service) Setup(ctx context.Context) (wire.SetupNow, error) {
	s.setup.mu.Lock()
	kept, err := s.begun()
	if err != nil {
		s.setup.mu.Unlock()
		return wire.SetupNow{}, err
	}
	now := wire.SetupNow{Setup: *kept, Battery: gate.Unknown, Modem: gate.Unknown}
	now.Folders = slices.Clone(kept.Folders)
	s.setup.mu.Unlock()
	now.InForce = s.Book.Plan() != nil
	if d, here := s.Device(now.Device); here {
		st, err := d.Status(ctx)
		if err != nil {
			return now, err
		}
		now.Modem = st.Modem
		now.Battery = gate.Is(st.Conditions.Battery >= 0)
		s.missingFolders(d, &now)
	}
	return now, s.tell(ctx, &now)
}

// ChangeSetup changes what is given of the set-up.
func (s *Service) ChangeSetup(c wire.SetupChange) error {
	if s.Book.Plan() != nil {
		return ErrSetUp
	}
	err := s.changeSetup(func(now *wire.Setup) error {
		set(&now.Step, c.Step)
		set(&now.Yard, c.Yard)
		set(&now.Take, c.Take)
		set(&now.Cellular, c.Cellular)
		set(&now.Allowance, c.Allowance)
		set(&now.Videos, c.Videos)
		set(&now.Power, c.Power)
		set(&now.Hours, c.Hours)
		set(&now.Layout, c.Layout)
		if c.On == nil {
			return nil
		}
		i := slices.IndexFunc(now.Folders, func(f wire.SetupFolder) bool { return f.Folder == c.On.Folder })
		switch {
		case c.On.Forget && i >= 0:
			now.Folders = slices.Delete(now.Folders, i, i+1)
		case i >= 0:
			now.Folders[i].On = c.On.On
		case !c.On.Forget:
			return s.addFolder(now, c.On.Folder, c.On.On)
		}
		return nil
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

func set[T any](field *T, to *T) {
	if to != nil {
		*field = *to
	}
}

// mostSetupFolders is how many folders a set-up may have.
const mostSetupFolders = 100

// addFolder puts one more folder into the set-up, as a plan would name it.
func (s *Service) addFolder(now *wire.Setup, folder string, on bool) error {
	folder = strings.TrimSpace(folder)
	d, here := s.Device(now.Device)
	switch {
	case !here:
		return SetupRefused{fmt.Sprintf("no device %q runs here", now.Device)}
	case folder == "" || strings.ContainsFunc(folder, func(r rune) bool { return r < ' ' || r == 0x7f || r == 0xfffd }):
		return SetupRefused{"name a folder, by its path"}
	case slices.Contains(strings.Split(folder, "/"), ".."):
		return SetupRefused{fmt.Sprintf("%q leaves its folder; write it without ..", folder)}
	case len(now.Folders) >= mostSetupFolders:
		return SetupRefused{"there are too many folders; take some out first"}
	}
	folder = path.Clean(strings.TrimPrefix(folder, "~/"))
	where := d.Folder(folder)
	for _, f := range now.Folders {
		switch {
		case f.Path == where:
			return SetupRefused{fmt.Sprintf("%s is in the list already", where)}
		case f.On && on && (plan.Inside(f.Path, where) || plan.Inside(where, f.Path)):
			return SetupRefused{fmt.Sprintf("%s and %s lie in one another; take one of them out first", where, f.Path)}
		}
	}
	if info, err := os.Stat(where); err != nil || !info.IsDir() {
		return SetupRefused{fmt.Sprintf("there is no folder %s", where)}
	}
	now.Folders = append(now.Folders, emptyFolder(folder, where, on))
	return nil
}

func emptyFolder(folder, where string, on bool) wire.SetupFolder {
	return wire.SetupFolder{Folder: folder, Path: where, On: on, Kinds: []wire.LookKind{}, Years: []wire.LookYear{}, Folders: []wire.LookFolder{}, Pictures: []wire.LookPicture{}}
}

// offerUsual puts the usual folders into a set-up that has none.
func (s *Service) offerUsual() error {
	return s.changeSetup(func(now *wire.Setup) error {
		d, here := s.Device(now.Device)
		if len(now.Folders) > 0 || !here {
			return nil
		}
		for _, u := range d.Usual() {
			on := u.Folder == "CAMERA" || u.Folder == "PICTURES" || u.Folder == "VIDEOS"
			now.Folders = append(now.Folders, emptyFolder(u.Folder, u.Path, on))
		}
		return nil
	})
}

// lookAtFolders begins to look at what was not looked at.
func (s *Service) lookAtFolders() error {
	s.setup.mu.Lock()
	now, err := s.begun()
	if err != nil {
		s.setup.mu.Unlock()
		return err
	}
	var todo []string
	for i, f := range now.Folders {
		if f.Job == "" && !f.Counting {
			now.Folders[i].Counting = true
			todo = append(todo, f.Folder)
		}
	}
	device := now.Device
	s.setup.mu.Unlock()
	d, here := s.Device(device)
	if !here {
		return nil
	}
	for _, folder := range todo {
		job, err := s.Jobs.Begin(wire.Job{Kind: wire.JobLook, Says: "It is looked at."}, true, func(ctx context.Context, tell func(func(*wire.Job))) error {
			err := d.Look(ctx, folder, nil, func(l wire.Look) {
				tell(func(is *wire.Job) { tellLook(is, l) })
				s.counted(folder, func(f *wire.SetupFolder) {
					f.All, f.Kinds, f.Years, f.Folders, f.Pictures = l.All, l.Kinds, l.Years, l.Folders, l.Pictures
				})
			})
			s.counted(folder, func(f *wire.SetupFolder) {
				f.Counting, f.Problem = false, ""
				if err != nil && ctx.Err() == nil {
					f.Problem = sentenceOf(err)
				}
			})
			if s.Book.Plan() != nil {
				return err
			}
			return errors.Join(err, s.keepCounts())
		})
		s.counted(folder, func(f *wire.SetupFolder) {
			if f.Job = job.ID; err != nil {
				f.Counting, f.Problem = false, sentenceOf(err)
			}
		})
	}
	return nil
}

// counted takes over what a look found; a folder that was taken out meanwhile is left.
func (s *Service) counted(folder string, take func(*wire.SetupFolder)) {
	s.setup.mu.Lock()
	defer s.setup.mu.Unlock()
	for i := range s.setup.now.Folders {
		if s.setup.now.Folders[i].Folder == folder {
			take(&s.setup.now.Folders[i])
		}
	}
}

// AddSetupPlace puts a place into the set-up that a trial found good, and keeps its
// secrets.
func (s *Service) AddSetupPlace(a wire.SetupAdd) error {
	if s.Book.Plan() != nil {
		return ErrSetUp
	}
	draft := withSecrets(a.Draft)
	if err := plantext.CheckDestination(draft.Name, draft.Destination); err != nil {
		return err
	}
	job, err := s.Jobs.Get(a.Job)
	if err != nil {
		return err
	}
	if job.Trial == nil || !job.Trial.OK || job.Trial.Where != draft.Destination.Where() {
		return SetupRefused{draft.Name + " was not tried with success; test it first"}
	}
	return s.changeSetup(func(now *wire.Setup) error {
		for _, p := range now.Places {
			switch {
			case p.Name == draft.Name:
				return SetupRefused{fmt.Sprintf("there is a place %q already; take another name", p.Name)}
			case p.Destination.Where() == draft.Destination.Where():
				return SetupRefused{fmt.Sprintf("that is the same place as %s: a second one is of use when it lies elsewhere", p.Name)}
			}
		}
		one := wire.SetupPlace{Name: draft.Name, Destination: draft.Destination, Free: -1, Rate: job.Trial.Rate}
		if job.Trial.Space != nil {
			one.Free = job.Trial.Space.Free
		}
		now.Places = append(now.Places, one)
		return s.keepSecrets(draft)
	})
}

// RemoveSetupPlace takes a place out of the set-up and forgets its secrets.
func (s *Service) RemoveSetupPlace(name string) error {
	if s.Book.Plan() != nil {
		return ErrSetUp
	}
	err := s.changeSetup(func(now *wire.Setup) error {
		n := len(now.Places)
		if now.Places = slices.DeleteFunc(now.Places, func(p wire.SetupPlace) bool { return p.Name == name }); len(now.Places) == n {
			return SetupRefused{fmt.Sprintf("there is no place %q", name)}
		}
		return nil
	})
	if err != nil {
		return err
	}
	return vault.Vault{Dir: s.Dir}.Remove(name)
}

// StartSetup puts what was said back in force, as the first plan.
func (s *Service) StartSetup(ctx context.Context, o wire.SetupStart) error {
	now, err := s.Setup(ctx)
	switch {
	case err != nil:
		return err
	case now.InForce:
		return ErrSetUp
	case now.Version != o.Version:
		return ErrStaleSetup
	case now.Text == "":
		return SetupRefused{now.Missing[0].Says}
	}
	if _, err := s.Book.Apply(ctx, "plan.yaml", now.Text, 0); err != nil {
		return err
	}
	s.setup.mu.Lock()
	defer s.setup.mu.Unlock()
	s.setup.loaded = false
	if err := os.Remove(s.setupFile()); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("ending the set-up: %w", err)
	}
	return nil
}

// missingFolders tells of folders that went since they were looked at.
func (s *Service) missingFolders(d Device, now *wire.SetupNow) {
	for i, f := range now.Folders {
		if info, err := os.Stat(d.Folder(f.Folder)); err != nil || !info.IsDir() {
			now.Folders[i].Problem = "The folder is not there any more."
		}
	}
}

// tell fills in what a set-up would come to.
func (s *Service) tell(ctx context.Context, now *wire.SetupNow) error {
	now.Says, now.Rooms, now.Missing, now.Notes, now.Names, now.Kinds = []string{}, []wire.SetupRoom{}, []wire.SetupLack{}, []string{}, []wire.SetupName{}, []wire.LookKind{}
	lack := func(step int, format string, args ...any) {
		now.Missing = append(now.Missing, wire.SetupLack{Step: step, Says: fmt.Sprintf(format, args...)})
	}
	kinds := map[media.Kind]wire.Amount{}
	p, device := &plan.Plan{Yard: strings.TrimSpace(now.Yard), Timezone: zoneName(), Destinations: map[string]plan.Destination{}}, plan.Device{}
	if p.Yard == "" {
		lack(stepSaid, "Give the household a name.")
	}
	rule, err := ruleOf(now.Setup)
	for _, place := range now.Places {
		d := place.Destination
		d.Layout = now.Layout
		p.Destinations[place.Name] = d
		rule.To = append(rule.To, place.Name)
	}
	if len(now.Places) == 0 {
		lack(stepWhere, "Say where your pictures go: add a place.")
	}
	if err := plan.CheckOwnLayout(now.Layout); err != nil {
		lack(stepNames, "%s.", sentenceOf(err))
	} else {
		now.Names = names(now)
	}
	for _, f := range now.Folders {
		if !f.On {
			continue
		}
		if f.Problem != "" {
			lack(stepWhat, "%s: %s", f.Path, f.Problem)
		}
		device.Sources = append(device.Sources, plan.Source{Folder: f.Folder, Rules: []string{"everyday"}})
		for _, k := range f.Kinds {
			kinds[k.Kind] = kinds[k.Kind].Plus(k.N, k.Bytes)
		}
	}
	if len(device.Sources) == 0 {
		lack(stepWhat, "Choose a folder.")
	}
	for _, k := range media.Kinds {
		if a := kinds[k]; a.N > 0 {
			now.Kinds = append(now.Kinds, wire.LookKind{Kind: k, Amount: a})
			if slices.Contains(now.Take, k) {
				now.Takes = now.Takes.Plus(a.N, a.Bytes)
			}
		}
	}
	if len(now.Take) == 0 {
		lack(stepHow, "Choose a kind.")
	}
	if err != nil {
		lack(stepWhen, "%s.", sentenceOf(err))
	}
	for _, p := range now.Places {
		now.Rooms = append(now.Rooms, roomOf(p, now.Takes, rule.Gates.Hours))
	}
	if len(now.Missing) > 0 {
		return nil
	}
	p.Devices, p.Rules = map[string]plan.Device{now.Device: device}, map[string]plan.Rule{"everyday": rule}
	text := plantext.Compose(p)
	p, err = plantext.Parse("plan.yaml", []byte(text))
	var problems plantext.Problems
	if errors.As(err, &problems) { // nobody sees the text that has these lines
		for _, p := range problems {
			lack(stepSaid, "%s; %s.", sentenceOf(errors.New(p.What)), p.Would)
		}
		return nil
	}
	if err != nil {
		lack(stepSaid, "%s", err)
		return nil
	}
	now.Text = text
	if now.Notes, err = s.Doubts(ctx, p); err != nil {
		return err
	}
	folders := make([]string, len(device.Sources))
	for i, source := range device.Sources {
		folders[i] = source.Folder
		if d, here := s.Device(now.Device); here {
			folders[i] = d.Folder(source.Folder)
		}
	}
	now.Says = append(now.Says,
		fmt.Sprintf("Of %s, %s: %s, %s.", now.Device, gate.And(folders), sentences.Things(now.Takes.N, now.Take...), gate.Bytes(now.Takes.Bytes)),
		sentences.Rule(p.Rules["everyday"]))
	if names := now.Names; len(names) > 0 {
		now.Says = append(now.Says, fmt.Sprintf("%s lands there as %s.", names[0].From, names[0].To))
	}
	return nil
}

// ruleOf is the one rule of a set-up.
func ruleOf(now wire.Setup) (r plan.Rule, err error) {
	r = plan.Rule{Take: now.Take, Lanes: []plan.Lane{{Over: plan.WiFi}}}
	if now.Cellular {
		lane := plan.Lane{Over: plan.Cellular}
		if now.Allowance != "" {
			if lane.Allowance, err = plan.ParseAllowance(now.Allowance); err != nil {
				return r, err
			}
		}
		if some := slices.DeleteFunc(slices.Clone(now.Take), func(k media.Kind) bool { return k == media.Video }); !now.Videos && len(some) > 0 && len(some) < len(now.Take) {
			lane.Take = some
		}
		r.Lanes = append(r.Lanes, lane)
	}
	if now.Power != "" {
		if r.Gates.Power, err = plan.ParsePower(now.Power); err != nil {
			return r, err
		}
	}
	if now.Hours != "" {
		r.Gates.Hours, err = plan.ParseHours(now.Hours)
	}
	return r, err
}

// roomOf tells what a place would get, whether it fits, and how long it takes.
func roomOf(p wire.SetupPlace, takes wire.Amount, hours plan.Hours) wire.SetupRoom {
	r := wire.SetupRoom{Name: p.Name, Free: p.Free, Fits: p.Free < 0 || takes.Bytes <= p.Free}
	switch {
	case p.Free < 0:
		r.Says = fmt.Sprintf("%s does not tell how much room it has; %s go there.", p.Name, gate.Bytes(takes.Bytes))
	case r.Fits:
		r.Says = fmt.Sprintf("%s go to %s, which then has %s left.", gate.Bytes(takes.Bytes), p.Name, gate.Bytes(p.Free-takes.Bytes))
	default:
		r.Says = fmt.Sprintf("%s do not fit at %s, which has %s free: %s too much.", gate.Bytes(takes.Bytes), p.Name, gate.Bytes(p.Free), gate.Bytes(takes.Bytes-p.Free))
	}
	if p.Rate <= 0 || takes.Bytes == 0 {
		return r
	}
	r.Seconds = max(1, takes.Bytes/p.Rate)
	if open := minutesOpen(hours); open < dayMinutes { // so many hours a day
		r.Seconds = r.Seconds * dayMinutes / max(1, open)
	}
	r.Says += fmt.Sprintf(" At the speed that the test saw, %s a second, that takes about %s.", gate.Bytes(p.Rate), about(time.Duration(r.Seconds)*time.Second))
	return r
}

const dayMinutes = 24 * 60

// minutesOpen is how many minutes of a day lie in some windows, as a mean of a week.
func minutesOpen(hours plan.Hours) (n int64) {
	if len(hours) == 0 {
		return dayMinutes
	}
	monday := time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)
	for minute := range 7 * dayMinutes {
		if hours.At(monday.Add(time.Duration(minute) * time.Minute)) {
			n++
		}
	}
	return n / 7
}

// about is a time span of a rough size.
func about(d time.Duration) string {
	switch {
	case d < 2*time.Second:
		return "a second"
	case d < 2*time.Minute:
		return fmt.Sprintf("%d seconds", int(d.Seconds()))
	case d < 2*time.Hour:
		return fmt.Sprintf("%d minutes", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d hours", int(d.Hours()))
	}
	return fmt.Sprintf("%d days", int(d.Hours()/24))
}

// names tells where the items of a set-up would land.
func names(now *wire.SetupNow) []wire.SetupName {
	var own []sample
	for _, f := range now.Folders {
		for _, p := range f.Pictures {
			if f.On {
				own = append(own, sample{naming.Item{Name: path.Base(p.Path), Device: now.Device, Source: f.Folder, Folder: path.Dir(p.Path), Kind: p.Kind, TakenAt: p.TakenAt}, p.TakenFrom == string(media.FromFile), nil})
			}
		}
	}
	return landings(now.Layout, now.Device, own)
}

func sentenceOf(err error) string {
	says := strings.TrimSuffix(err.Error(), ".")
	if says == "" {
		return says
	}
	return strings.ToUpper(says[:1]) + says[1:]
}
