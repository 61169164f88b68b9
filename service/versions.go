package service

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"time"

	"github.com/pmezard/go-difflib/difflib"

	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/sentences"
	"yardtide/wire"
)

// signature is when and by what a version of the plan was made, as it lies beside its text.
type signature struct {
	At time.Time    `json:"at"`
	By wire.PlanWay `json:"by"`
}

func (s *Service) signatureFile(n int64) string {
	return filepath.Join(s.versions(), fmt.Sprintf("%06d.json", n))
}

// NoVersion says that there is no such version of the plan.
type NoVersion struct{ Version, Now int64 }

func (e NoVersion) Error() string {
	if e.Now == 0 {
		return "there is no plan yet"
	}
	return fmt.Sprintf("the plan has no version %d; it has 1 to %d (yardtide plan history)", e.Version, e.Now)
}

// versionText reads the text of one; 0 is the empty one before the first.
func (s *Service) versionText(n int64) (string, error) {
	_, now := s.PlanText()
	if n == 0 {
		return "", nil
	}
	if n < 0 || n > now {
		return "", NoVersion{n, now}
	}
	text, err := os.ReadFile(s.versionFile(n))
	if errors.Is(err, fs.ErrNotExist) {
		return "", NoVersion{n, now}
	}
	if err != nil {
		return "", fmt.Errorf("reading version %d of the plan: %w", n, err)
	}
	return string(text), nil
}

// mostVersions is how many of a plan's latest versions are told at once.
const mostVersions = 100

// History tells the plan's versions, the newest first, with what each changed. Before is
// the version before which to go on, 0 for the newest.
func (s *Service) History(before int64) ([]wire.PlanVersion, error) {
	_, now := s.PlanText()
	last := now
	if before > 0 {
		last = min(last, before-1)
	}
	list := []wire.PlanVersion{}
	for n := last; n > max(0, last-mostVersions); n-- {
		one, err := s.tellVersion(n)
		if err != nil {
			return nil, err
		}
		one.InForce = n == now
		list = append(list, one)
	}
	return list, nil
}

// tellVersion tells one version, and what it changed.
func (s *Service) tellVersion(n int64) (wire.PlanVersion, error) {
	v := wire.PlanVersion{Version: n, By: wire.PlanByUnknown}
	text, err := s.versionText(n)
	if err != nil {
		return v, err
	}
	before, err := s.versionText(n - 1)
	var none NoVersion
	if err != nil && !errors.As(err, &none) {
		return v, err
	}
	var m signature
	switch kept, err := os.ReadFile(s.signatureFile(n)); {
	case err == nil && json.Unmarshal(kept, &m) == nil:
		v.At, v.By = m.At, m.By
	case err == nil || errors.Is(err, fs.ErrNotExist): // made before that was kept
		info, err := os.Stat(s.versionFile(n))
		if err != nil {
			return v, fmt.Errorf("looking at version %d of the plan: %w", n, err)
		}
		v.At = info.ModTime().UTC()
	default:
		return v, fmt.Errorf("reading who made version %d of the plan: %w", n, err)
	}
	v.Says = changes(before, text)
	return v, nil
}

// changes tells what changed from one text to the next.
func changes(before, after string) []string {
	if before == after {
		return []string{"Nothing: the text is the same."}
	}
	is, err := plan.Parse("plan", []byte(after))
	if err != nil { // what a version of the program took may be refused by a later one
		return []string{"It cannot be read any more: what it says is refused today."}
	}
	var was *plan.Plan
	if before != "" {
		if was, err = plan.Parse("plan", []byte(before)); err != nil {
			return []string{"What it changed cannot be told: what was before is refused today."}
		}
	}
	says := sentences.Changes(was, is)
	if len(says) == 0 {
		says = []string{"Comments, order or spelling; it means the same."}
	}
	return says
}

// WouldChange tells what a text would change, in sentences.
func (s *Service) WouldChange(text string) []string {
	now, _ := s.PlanText()
	return changes(now, text)
}

// Rules tells what the rules of the plan in force do, by name.
func (s *Service) Rules() []wire.PlanRule {
	p, list := s.planOrEmpty(), []wire.PlanRule{}
	for _, name := range slices.Sorted(maps.Keys(p.Rules)) {
		r := p.Rules[name]
		one := wire.PlanRule{Name: name, Says: sentences.Rule(r), Follows: []wire.PlanSource{}, Take: r.Take, To: r.To,
			Own: ownOf(p, name), Idle: r.Gates.Idle == plan.MustBeIdle, Unused: r.Gates.Unused.String(), Rest: r.Gates.Rest.String(), Screen: string(r.Gates.Screen), Saver: string(r.Gates.Saver), StoreEach: r.StoreEach, Previews: r.Previews, Also: alsoOf(r), OnClash: cmp.Or(r.OnClash, plan.NameClash), Bursts: r.Bursts, Companions: append([]media.Companion{}, r.Companions...), Send: sendsAs(r), Lanes: ruleLanes(r.Lanes), Larger: r.LargerThan.String(), Longer: r.LongerThan.String(), Power: r.Gates.Power.String(), Hours: r.Gates.Hours.String(), Order: cmp.Or(r.Order, plan.NewestFirst)}
		for _, device := range slices.Sorted(maps.Keys(p.Devices)) {
			for _, source := range p.Devices[device].Sources {
				if slices.Contains(source.Rules, name) {
					one.Follows = append(one.Follows, wire.PlanSource{Device: device, Folder: source.Folder})
				}
			}
		}
		list = append(list, one)
	}
	return list
}

// EditSource adds a folder of a device to the plan, or takes it out, in its text; with
// Try it only tells what that would change. The errors are plan.EditError and those of
// ApplyPlan.
func (s *Service) EditSource(ctx context.Context, e wire.SourceEdit) (wire.PlanEdited, error) {
	return s.editBy(ctx, 0, e.Try, func(before string) (string, error) {
		if e.Remove {
			return plan.WithoutSource(before, e.Device, e.Folder)
		}
		src, err := sourceOf(e)
		if err != nil {
			return "", err
		}
		p, err := plan.Parse("plan.yaml", []byte(before))
		if err != nil {
			return "", err
		}
		if slices.ContainsFunc(p.Devices[e.Device].Sources, func(o plan.Source) bool { return o.Folder == src.Folder }) {
			if e.Add {
				return "", plan.EditError{Says: fmt.Sprintf("%s of %s is in the plan already; change it instead", e.Folder, e.Device)}
			}
			return plan.WithSourceChanged(before, e.Device, src)
		}
		if _, named := p.Devices[e.Device]; !named {
			if _, known := s.Device(e.Device); known { // it joined, and has no folders yet
				return plan.WithNewDevice(before, e.Device, src)
			}
		}
		return plan.WithSource(before, e.Device, src)
	})
}

// ownOf tells what devices have otherwise than a rule says.
func ownOf(p *plan.Plan, rule string) []wire.RuleOwn {
	list := []wire.RuleOwn{}
	for _, device := range slices.Sorted(maps.Keys(p.Devices)) {
		o, there := p.Devices[device].Rules[rule]
		if !there {
			continue
		}
		one := wire.RuleOwn{Device: device, Says: sentences.Override(o), Lanes: ruleLanes(o.Lanes), Power: o.Gates.Power.String(), Hours: o.Gates.Hours.String()}
		if o.Gates.NoPower {
			one.Power = "any"
		}
		if o.Gates.NoHours {
			one.Hours = "any"
		}
		list = append(list, one)
	}
	return list
}

// overrideOf is what an edit changes of what a device has of its own.
func overrideOf(e wire.RuleEdit, lanes []plan.Lane) (c plan.OverrideChange) {
	none := ""
	if e.Reset {
		return plan.OverrideChange{Lanes: &[]plan.Lane{}, Power: &none, Hours: &none, Idle: &none}
	}
	c.Power, c.Hours = e.Power, e.Hours
	if e.Lanes != nil {
		c.Lanes = &lanes
	}
	if e.Idle != nil {
		c.Idle = new(strconv.FormatBool(*e.Idle))
	}
	return c
}

func ruleLanes(lanes []plan.Lane) []wire.RuleLane {
	list := make([]wire.RuleLane, len(lanes))
	for i, l := range lanes {
		list[i] = wire.RuleLane{Over: l.Over, Take: append([]media.Kind{}, l.Take...), Allowance: l.Allowance.String(), Metered: l.Metered, Roaming: l.Roaming,
			RoamingAllowance: l.RoamingAllowance.String(), MeteredWiFi: l.MeteredWiFi, Named: l.Named, NotNamed: l.NotNamed, HomeOnly: l.HomeOnly, Send: l.Send}
	}
	return list
}

// lanesOf reads lanes as a form or a command has them; nil stays nil.
func lanesOf(list []wire.RuleLane) (lanes []plan.Lane, err error) {
	for _, l := range list {
		one := plan.Lane{Over: l.Over, Metered: l.Metered, Roaming: l.Roaming, MeteredWiFi: l.MeteredWiFi, Named: l.Named, NotNamed: l.NotNamed, HomeOnly: l.HomeOnly, Send: l.Send}
		if len(l.Take) > 0 {
			one.Take = l.Take
		}
		if l.Allowance != "" {
			if one.Allowance, err = plan.ParseAllowance(l.Allowance); err != nil {
				return nil, plan.EditError{Says: err.Error()}
			}
		}
		if l.RoamingAllowance != "" {
			if one.RoamingAllowance, err = plan.ParseAllowance(l.RoamingAllowance); err != nil {
				return nil, plan.EditError{Says: err.Error()}
			}
		}
		lanes = append(lanes, one)
	}
	return lanes, nil
}

// sourceOf reads a source as a form or a command has it.
func sourceOf(e wire.SourceEdit) (s plan.Source, err error) {
	if e.Set == nil {
		return s, plan.EditError{Says: "say which rule the source follows"}
	}
	set := *e.Set
	s = plan.Source{Folder: e.Folder, Rules: set.Rules, Scope: plan.Scope{Only: set.Only, LeaveOut: set.LeaveOut, Hidden: set.Hidden}}
	for _, pattern := range slices.Concat(set.Only, set.LeaveOut) {
		if err := plan.CheckPattern(pattern); err != nil {
			return s, plan.EditError{Says: err.Error()}
		}
	}
	for _, f := range []struct {
		text string
		into *plan.Size
	}{{set.Smallest, &s.Smallest}, {set.Largest, &s.Largest}} {
		if f.text == "" {
			continue
		}
		if *f.into, err = plan.ParseSize(f.text); err != nil {
			return s, plan.EditError{Says: err.Error()}
		}
	}
	for _, f := range []struct {
		text string
		into *plan.Date
	}{{set.TakenFrom, &s.TakenFrom}, {set.TakenUntil, &s.TakenUntil}, {set.NewSince, &s.NewSince}} {
		if f.text == "" {
			continue
		}
		if *f.into, err = plan.ParseDate(f.text); err != nil {
			return s, plan.EditError{Says: err.Error()}
		}
	}
	return s, nil
}

// EditDevice changes a device of the plan.
func (s *Service) EditDevice(ctx context.Context, e wire.DeviceEdit) (wire.PlanEdited, error) {
	return s.editBy(ctx, 0, e.Try, func(before string) (string, error) {
		return plan.WithDevice(before, e.Device, plan.DeviceChange{Timezone: e.Timezone, Limit: e.Limit, Person: e.Person})
	})
}

// PlanDevices lists the devices of the plan in force.
func (s *Service) PlanDevices() []wire.PlanDevice {
	p, list := s.planOrEmpty(), []wire.PlanDevice{}
	for _, name := range slices.Sorted(maps.Keys(p.Devices)) {
		d := p.Devices[name]
		list = append(list, wire.PlanDevice{Device: name, Timezone: d.Timezone, Limit: d.Limit.String(), Person: d.Person, Says: sentences.Device(d)})
	}
	return list
}

// Sources lists the folders that the plan has taken up.
func (s *Service) Sources() []wire.PlanFolder {
	p, list := s.planOrEmpty(), []wire.PlanFolder{}
	for _, device := range slices.Sorted(maps.Keys(p.Devices)) {
		for _, source := range p.Devices[device].Sources {
			list = append(list, wire.PlanFolder{
				PlanSource: wire.PlanSource{Device: device, Folder: source.Folder}, Says: sentences.Follows(source),
				SourceRules: wire.SourceRules{Rules: source.Rules, Only: append([]string{}, source.Only...), LeaveOut: append([]string{}, source.LeaveOut...), Hidden: source.Hidden,
					Smallest: source.Smallest.String(), Largest: source.Largest.String(), TakenFrom: string(source.TakenFrom), TakenUntil: string(source.TakenUntil), NewSince: string(source.NewSince)},
			})
		}
	}
	return list
}

// EditRule changes a rule of the plan, in its text; with Try it only tells what that
// would change. The errors are plan.EditError and those of ApplyPlan.
func (s *Service) EditRule(ctx context.Context, e wire.RuleEdit) (wire.PlanEdited, error) {
	return s.editBy(ctx, e.Base, e.Try, func(before string) (string, error) {
		lanes, err := lanesOf(e.Lanes)
		if err != nil {
			return "", err
		}
		if e.Remove {
			return plan.WithoutRule(before, e.Rule)
		}
		if e.Device != "" {
			return plan.WithOverride(before, e.Device, e.Rule, overrideOf(e, lanes))
		}
		if e.Add {
			r := plan.Rule{Take: e.Take, To: e.To, Lanes: lanes}
			before, err = plan.WithNewRule(before, e.Rule, r)
			if err != nil {
				return "", err
			}
			e.Take, e.To, lanes = nil, nil, nil // the rest is set as of one that is there
		}
		also, err := picksOf(e.Also)
		if err != nil {
			return "", err
		}
		if e.OnClash != nil && *e.OnClash == plan.NameClash { // as without a word
			e.OnClash = new(plan.Clash)
		}
		return plan.WithRule(before, e.Rule, plan.RuleChange{Previews: e.Previews, Also: also, OnClash: e.OnClash, Companions: e.Companions, Bursts: e.Bursts, Lanes: lanes, Idle: e.Idle, Unused: e.Unused, Rest: e.Rest, Screen: e.Screen, Saver: e.Saver, StoreEach: e.StoreEach, Send: e.Send, Take: e.Take, Larger: e.Larger, Longer: e.Longer, To: e.To, Power: e.Power, Hours: e.Hours, Order: e.Order})
	})
}

func alsoOf(r plan.Rule) []wire.RuleAlso {
	list := make([]wire.RuleAlso, len(r.Also))
	for i, a := range r.Also {
		list[i] = wire.RuleAlso{When: a.When.String(), Layout: a.Layout}
	}
	return list
}

// picksOf reads picks as an edit has them; nil stays nil.
func picksOf(said *[]wire.RuleAlso) (*[]plan.Also, error) {
	if said == nil {
		return nil, nil
	}
	list := []plan.Also{}
	for _, a := range *said {
		mark, err := plan.ParseMark(a.When)
		if err == nil {
			err = plan.CheckLayout(a.Layout)
		}
		if err != nil {
			return nil, plan.EditError{Says: err.Error()}
		}
		list = append(list, plan.Also{When: mark, Layout: a.Layout})
	}
	return &list, nil
}

func sendsAs(r plan.Rule) map[media.Kind]string {
	if r.Send == nil {
		return map[media.Kind]string{}
	}
	return r.Send
}

// Renditions lists the forms of the plan in force.
func (s *Service) Renditions() []wire.PlanRendition {
	p, list := s.planOrEmpty(), []wire.PlanRendition{}
	for _, name := range slices.Sorted(maps.Keys(p.Renditions)) {
		r := p.Renditions[name]
		one := wire.PlanRendition{Name: name, Says: r.String(), Form: wire.FormOf(r), Pictures: r.Limits(media.Photo), Clips: r.Limits(media.Video), Rules: []string{}}
		for _, rule := range slices.Sorted(maps.Keys(p.Rules)) {
			if p.Rules[rule].Uses(name) {
				one.Rules = append(one.Rules, rule)
			}
		}
		list = append(list, one)
	}
	return list
}

// EditRendition makes a rendition of the plan, or changes or takes out one.
func (s *Service) EditRendition(ctx context.Context, e wire.RenditionEdit) (wire.PlanEdited, error) {
	return s.editBy(ctx, 0, e.Try, func(before string) (string, error) {
		if e.Remove {
			return plan.WithoutRendition(before, e.Name)
		}
		r, err := e.Rendition()
		if err != nil {
			return "", err
		}
		return plan.WithRendition(before, e.Name, r)
	})
}

// editBy changes the text in force and tells what that changes, or only tells.
func (s *Service) editBy(ctx context.Context, base int64, try bool, write func(string) (string, error)) (out wire.PlanEdited, err error) {
	edit := func(before string) (string, error) {
		after, err := write(before)
		if err != nil {
			return "", err
		}
		p, err := plan.Parse("plan.yaml", []byte(after))
		if err != nil {
			return "", err
		}
		out.Says = changes(before, after)
		out.Notes, err = s.newDoubts(ctx, p)
		return after, err
	}
	if try {
		before, _, err := s.planOn(base)
		if err != nil {
			return out, err
		}
		after, err := write(before)
		if err != nil {
			return out, err
		}
		tried, err := s.TryPlan(ctx, "plan.yaml", after)
		return wire.PlanEdited{Says: tried.Says, Notes: tried.Notes, Tried: &tried}, err
	}
	out.Version, err = s.editPlan(ctx, base, edit)
	return out, err
}

// Doubts tells what a plan allows and its keeper hardly meant, as it stands and as the
// devices that run here can tell.
func (s *Service) Doubts(ctx context.Context, p *plan.Plan) ([]string, error) {
	says := append([]string{}, sentences.Doubts(p)...)
	for _, d := range s.Devices() {
		own, err := d.Doubts(ctx, p)
		if err != nil {
			return nil, err
		}
		says = append(says, own...)
	}
	return says, nil
}

// newDoubts tells what a plan allows and its keeper hardly meant, as far as the plan in force does
// not allow it already; of the rest, one line.
func (s *Service) newDoubts(ctx context.Context, p *plan.Plan) ([]string, error) {
	all, err := s.Doubts(ctx, p)
	now := s.Plan()
	if err != nil || now == nil {
		return all, err
	}
	known, err := s.Doubts(ctx, now)
	if err != nil {
		return nil, err
	}
	says := slices.DeleteFunc(slices.Clone(all), func(d string) bool { return slices.Contains(known, d) })
	switch left := len(all) - len(says); {
	case left == 1:
		says = append(says, "One doubt about the plan is as it was: yardtide plan check, or the page Plan, tells it.")
	case left > 1:
		says = append(says, fmt.Sprintf("%d doubts about the plan are as they were: yardtide plan check, or the page Plan, tells them.", left))
	}
	return says, nil
}

// Diff is what changed in the text between two versions, as a unified diff, and in
// sentences. The error is NoVersion when there is none.
func (s *Service) Diff(from, to int64) (wire.PlanDiff, error) {
	before, err := s.versionText(from)
	if err != nil {
		return wire.PlanDiff{}, err
	}
	after, err := s.versionText(to)
	if err != nil {
		return wire.PlanDiff{}, err
	}
	text, err := textDiff(before, after, fmt.Sprintf("version %d", from), fmt.Sprintf("version %d", to))
	if err != nil {
		return wire.PlanDiff{}, err
	}
	d := wire.PlanDiff{From: from, To: to, Text: text, Says: []string{}}
	if to > 0 && before != after {
		d.Says = changes(before, after)
	}
	return d, nil
}

// textDiff is what changed between two texts, as a unified diff; "" for the same.
func textDiff(before, after, from, to string) (string, error) {
	text, err := difflib.GetUnifiedDiffString(difflib.UnifiedDiff{A: difflib.SplitLines(before), B: difflib.SplitLines(after), FromFile: from, ToFile: to, Context: 3})
	if err != nil {
		return "", fmt.Errorf("comparing two texts of the plan: %w", err)
	}
	return text, nil
}

// GoBack puts an earlier version in force again, as a new one: its text byte for byte.
// Base is the version that is in force, as whoever asks saw it; the error is StalePlan
// when it is another, NoVersion when there is none.
func (s *Service) GoBack(ctx context.Context, to, base int64) (version int64, err error) {
	s.changing.Lock()
	defer s.changing.Unlock()
	_, now := s.PlanText()
	if base != now {
		return now, StalePlan{base, now}
	}
	text, err := s.versionText(to)
	if err != nil {
		return now, err
	}
	if text == "" {
		return now, NoVersion{to, now}
	}
	return s.apply(ctx, fmt.Sprintf("version %d", to), text, wire.PlanByUndo)
}
