package service

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"yardtide/core/plan"
	"yardtide/core/plantext"
	"yardtide/core/words"
	"yardtide/engine/fleet"
	"yardtide/engine/tell"
	"yardtide/service/planbook"
	"yardtide/wire"
	"yardtide/wire/planwire"
)

// Trials tell what a plan would do, or a part of it, by what the devices have. They change nothing but
// by EditPlan.
type Trials struct {
	book    *planbook.Book
	fleet   *fleet.Fleet
	devices func() []Device
}

// TryPlan tells what a text would do to the yard's items, beside what the plan in force
// does. It changes nothing. The error is plantext.Problems.
func (s *Trials) TryPlan(ctx context.Context, file, text string) (planwire.PlanTried, error) {
	p, err := plantext.Parse(file, []byte(text))
	if err != nil {
		return planwire.PlanTried{}, err
	}
	t := planwire.PlanTried{}
	doubts, err := s.newDoubts(ctx, p)
	if err != nil {
		return t, err
	}
	t.Notes = append(s.PlaceNotes(p), doubts...)
	before, version := s.book.Text()
	t.Says = planbook.Changes(before, text)
	if t.Text, err = planbook.TextDiff(before, text, fmt.Sprintf("version %d", version), "this text"); err != nil {
		return t, err
	}
	t.Devices, t.Places, err = s.try(ctx, p, map[tell.Reduced]planwire.FormForecast{})
	return t, err
}

// try tells what a plan would do to the items of each device, and what each place would get. What came of samples of
// forms is kept in samples, for who tries several plans.
func (s *Trials) try(ctx context.Context, p *plan.Plan, samples map[tell.Reduced]planwire.FormForecast) (
	devices []planwire.TriedDevice, places []planwire.TriedPlace, err error) {
	devices, places = []planwire.TriedDevice{}, []planwire.TriedPlace{}
	today, then, reduced := map[string]wire.Amount{}, map[string]wire.Amount{}, map[tell.Reduced]wire.Amount{}
	for _, d := range s.devices() {
		one, err := d.Told.TryPlan(ctx, p)
		if err != nil {
			return devices, places, err
		}
		devices = append(devices, one.TriedDevice)
		sum(today, one.Today)
		sum(then, one.Then)
		sum(reduced, one.Reduced)
	}
	now := s.book.PlanOrEmpty()
	for _, name := range slices.Sorted(maps.Keys(p.Destinations)) {
		d, room := p.Destinations[name], int64(-1)
		if before, there := now.Destinations[name]; there && before.Where() == d.Where() {
			room = s.fleet.Room(name, int64(d.KeepFree))
		}
		low, high := then[name].Bytes, then[name].Bytes
		for of, a := range reduced {
			if of.Destination != name {
				continue
			}
			least, most, err := s.smaller(ctx, of, a, room < 0 || then[name].Bytes > room, samples)
			if err != nil {
				return devices, places, err
			}
			low, high = low-a.Bytes+least, high-a.Bytes+most
		}
		places = append(places, triedPlace(planwire.TriedPlace{Name: name, Today: today[name], Then: then[name],
			Room: room, Low: low, High: high}))
	}
	return devices, places, nil
}

// sum adds amounts to those of the same name.
func sum[K comparable](into, from map[K]wire.Amount) {
	for name, a := range from {
		into[name] = into[name].Plus(a.N, a.Bytes)
	}
}

// trialSample is how many pictures of a device are made to tell what a form comes to in a trial: somebody
// waits for it.
const trialSample = 6

// smaller tells what items come to at a place where they go in another form: anything up to as shot, or,
// where it is looked into, by a sample. Places that get the same form share one of samples.
func (s *Trials) smaller(ctx context.Context, of tell.Reduced, a wire.Amount, look bool,
	samples map[tell.Reduced]planwire.FormForecast) (low, high int64, err error) {
	if !look || !sampled(of.Kind) {
		return 0, a.Bytes, nil
	}
	if of.Destination = ""; s.book.PlanOrEmpty().Rules[of.Rule].To == nil {
		of.Rule = "" // it takes nothing yet: what others take is like it
	}
	f, known := samples[of]
	if !known {
		if f, err = s.comesTo(ctx, of.Form, of.Rule, of.Kind, trialSample); err != nil {
			return 0, a.Bytes, err
		}
		samples[of] = f
	}
	if !f.Known || f.All.Bytes == 0 {
		return 0, a.Bytes, nil
	}
	share := func(of int64) int64 { return int64(float64(of) / float64(f.All.Bytes) * float64(a.Bytes)) }
	return share(f.Range.Low), min(share(f.Range.High), a.Bytes), nil
}

// triedPlace says what comes to a place, and whether it fits.
func triedPlace(one planwire.TriedPlace) planwire.TriedPlace {
	name, today, then, room := one.Name, one.Today, one.Then, one.Room
	one.Fits = room < 0 || one.High <= room
	come := fmt.Sprintf("%s to %s, %s;", comes(then.N), name, words.Bytes(then.Bytes))
	switch {
	case one.Low == 0 && one.High == then.Bytes && then.Bytes > 0:
		come = fmt.Sprintf("%s to %s, less than %s, as they go smaller;", comes(then.N), name, words.Bytes(one.High))
	case one.Low < one.High:
		come = fmt.Sprintf("%s to %s, %s as shot, and %s to %s as they go;", comes(then.N), name, words.Bytes(then.Bytes),
			words.Bytes(one.Low), words.Bytes(one.High))
	case one.High < then.Bytes:
		come = fmt.Sprintf("%s to %s, %s as shot, and %s as they go;", comes(then.N), name, words.Bytes(then.Bytes),
			words.Bytes(one.High))
	}
	switch {
	case then.N == 0:
		one.Says = "Nothing is to come to " + name + "."
	case room < 0:
		one.Says = come + " how much room it has is not known."
	case one.Fits:
		one.Says = fmt.Sprintf("%s it has room for %s.", come, words.Bytes(room))
	case one.Low <= room:
		one.Says = fmt.Sprintf("%s it has room for %s, which may be too little.", come, words.Bytes(room))
	default:
		one.Says = fmt.Sprintf("%s it has room for %s: %s do not fit.", come, words.Bytes(room), words.Bytes(one.Low-room))
	}
	if today != then {
		one.Says += fmt.Sprintf(" Today it is %s, %s.", words.Files(today.N), words.Bytes(today.Bytes))
	}
	return one
}

func comes(n int64) string {
	if n == 1 {
		return "1 file is to come"
	}
	return words.Files(n) + " are to come"
}

// EditPlan has keys of the plan say something else, or only tells what that would change. The errors are
// planbook.Stale, plantext.EditError, plantext.Problems and vault.Refused.
func (s *Trials) EditPlan(ctx context.Context, e planwire.PlanEdits) (out planwire.PlanEdited, err error) {
	if e.Try {
		before, _, err := s.book.On(e.Base)
		if err != nil {
			return out, err
		}
		after, err := plantext.Set(before, e.Edits...)
		if err != nil {
			return out, err
		}
		tried, err := s.TryPlan(ctx, "plan.yaml", after)
		return planwire.PlanEdited{Says: tried.Says, Notes: tried.Notes, Tried: &tried}, err
	}
	out.Version, err = s.book.Edit(ctx, e.Base, func(before string) (string, error) {
		after, err := plantext.Set(before, e.Edits...)
		if err != nil {
			return "", err
		}
		p, err := plantext.Parse("plan.yaml", []byte(after))
		if err != nil {
			return "", err
		}
		out.Says = planbook.Changes(before, after)
		out.Notes, err = s.newDoubts(ctx, p)
		return after, err
	})
	return out, err
}

// Held tells what the folders and the rules of the plan in force hold now.
func (s *Trials) Held(ctx context.Context) (planwire.PlanHeld, error) {
	held := planwire.PlanHeld{Folders: []planwire.HeldFolder{}, Rules: []planwire.HeldRule{}}
	for _, d := range s.devices() {
		own, err := d.Told.Held(ctx)
		if err != nil {
			return held, err
		}
		held.Folders = append(held.Folders, own.Folders...)
		for _, one := range own.Rules {
			same := func(r planwire.HeldRule) bool { return r.Rule == one.Rule }
			if i := slices.IndexFunc(held.Rules, same); i >= 0 {
				held.Rules[i].Join(one)
			} else {
				held.Rules = append(held.Rules, one)
			}
		}
	}
	return held, nil
}

// Doubts tells what a plan allows and its keeper hardly meant, as it stands and as the
// devices that run here can tell.
func (s *Trials) Doubts(ctx context.Context, p *plan.Plan) ([]words.Doubt, error) {
	list := append([]words.Doubt{}, words.Doubts(p)...)
	for _, d := range s.devices() {
		own, err := d.Told.Doubts(ctx, p)
		if err != nil {
			return nil, err
		}
		list = append(list, own...)
	}
	return list, nil
}

// newDoubts tells what a plan allows and its keeper hardly meant, as far as the plan in force does
// not allow it already; of the rest, one line.
func (s *Trials) newDoubts(ctx context.Context, p *plan.Plan) ([]string, error) {
	all, err := s.Doubts(ctx, p)
	now := s.book.Plan()
	if err != nil || now == nil {
		return words.Said(all), err
	}
	known, err := s.Doubts(ctx, now)
	if err != nil {
		return nil, err
	}
	says := words.Said(slices.DeleteFunc(slices.Clone(all), func(d words.Doubt) bool {
		return slices.ContainsFunc(known, d.Same)
	}))
	switch left := len(all) - len(says); {
	case left == 1:
		says = append(says, "One doubt about the plan is as it was: yardtide plan check, or the page Plan, tells it.")
	case left > 1:
		says = append(says, fmt.Sprintf("%d doubts about the plan are as they were: yardtide plan check, or the page "+
			"Plan, tells them.", left))
	}
	return says, nil
}

// PlaceNotes tells which destinations a plan lets stand for another place than
// today.
func (s *Trials) PlaceNotes(p *plan.Plan) []string {
	notes := []string{}
	now := s.book.PlanOrEmpty()
	for name, d := range p.Destinations {
		before, there := now.Destinations[name]
		if !there || before.Where() == d.Where() {
			continue
		}
		notes = append(notes, fmt.Sprintf("%s is to stand for another place: %s, and %s until now. What is safe there "+
			"counts again when it is proven at the new one; you are asked whether it was moved there (yardtide destination "+
			"place %s moved) or is new (… new).", name, d.Where(), before.Where(), name))
	}
	slices.Sort(notes)
	return notes
}
