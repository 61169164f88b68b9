package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/pmezard/go-difflib/difflib"

	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/plantext"
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
	is, err := plantext.Parse("plan", []byte(after))
	if err != nil { // what a version of the program took may be refused by a later one
		return []string{"It cannot be read any more: what it says is refused today."}
	}
	var was *plan.Plan
	if before != "" {
		if was, err = plantext.Parse("plan", []byte(before)); err != nil {
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
		one := wire.PlanRule{Name: name, Says: sentences.Rule(r), Follows: []wire.PlanSource{}, Own: ownOf(p, name)}
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

// ownOf tells what devices have otherwise than a rule says.
func ownOf(p *plan.Plan, rule string) []wire.RuleOwn {
	list := []wire.RuleOwn{}
	for _, device := range slices.Sorted(maps.Keys(p.Devices)) {
		o, there := p.Devices[device].Rules[rule]
		if !there {
			continue
		}
		list = append(list, wire.RuleOwn{Device: device, Says: sentences.Override(o)})
	}
	return list
}

// PlanDevices lists the devices of the plan in force.
func (s *Service) PlanDevices() []wire.PlanDevice {
	p, list := s.planOrEmpty(), []wire.PlanDevice{}
	for _, name := range slices.Sorted(maps.Keys(p.Devices)) {
		d := p.Devices[name]
		list = append(list, wire.PlanDevice{Device: name, Says: sentences.Device(d)})
	}
	return list
}

// Sources lists the folders that the plan has taken up.
func (s *Service) Sources() []wire.PlanFolder {
	p, list := s.planOrEmpty(), []wire.PlanFolder{}
	for _, device := range slices.Sorted(maps.Keys(p.Devices)) {
		for _, source := range p.Devices[device].Sources {
			list = append(list, wire.PlanFolder{PlanSource: wire.PlanSource{Device: device, Folder: source.Folder}, Says: sentences.Follows(source)})
		}
	}
	return list
}

// Renditions lists the forms of the plan in force.
func (s *Service) Renditions() []wire.PlanRendition {
	p, list := s.planOrEmpty(), []wire.PlanRendition{}
	for _, name := range slices.Sorted(maps.Keys(p.Renditions)) {
		r := p.Renditions[name]
		one := wire.PlanRendition{Name: name, Says: r.String(), Pictures: r.Limits(media.Photo), Clips: r.Limits(media.Video), Rules: []string{}}
		for _, rule := range slices.Sorted(maps.Keys(p.Rules)) {
			if p.Rules[rule].Uses(name) {
				one.Rules = append(one.Rules, rule)
			}
		}
		list = append(list, one)
	}
	return list
}

// EditPlan has keys of the plan say something else, or only tells what that would change. The errors are
// StalePlan, plantext.EditError, plantext.Problems and SecretRefused.
func (s *Service) EditPlan(ctx context.Context, e wire.PlanEdits) (out wire.PlanEdited, err error) {
	if e.Try {
		before, _, err := s.planOn(e.Base)
		if err != nil {
			return out, err
		}
		after, err := plantext.Set(before, e.Edits...)
		if err != nil {
			return out, err
		}
		tried, err := s.TryPlan(ctx, "plan.yaml", after)
		return wire.PlanEdited{Says: tried.Says, Notes: tried.Notes, Tried: &tried}, err
	}
	out.Version, err = s.editPlan(ctx, e.Base, func(before string) (string, error) {
		after, err := plantext.Set(before, e.Edits...)
		if err != nil {
			return "", err
		}
		p, err := plantext.Parse("plan.yaml", []byte(after))
		if err != nil {
			return "", err
		}
		out.Says = changes(before, after)
		out.Notes, err = s.newDoubts(ctx, p)
		return after, err
	})
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
