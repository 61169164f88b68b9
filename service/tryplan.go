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
	t := planwire.PlanTried{Devices: []planwire.TriedDevice{}, Places: []planwire.TriedPlace{}}
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
	today, then := map[string]wire.Amount{}, map[string]wire.Amount{}
	sum := func(into, from map[string]wire.Amount) {
		for name, a := range from {
			into[name] = into[name].Plus(a.N, a.Bytes)
		}
	}
	for _, d := range s.devices() {
		one, err := d.Told.TryPlan(ctx, p)
		if err != nil {
			return t, err
		}
		t.Devices = append(t.Devices, one.TriedDevice)
		sum(today, one.Today)
		sum(then, one.Then)
	}
	now := s.book.PlanOrEmpty()
	for _, name := range slices.Sorted(maps.Keys(p.Destinations)) {
		d, room := p.Destinations[name], int64(-1)
		if before, there := now.Destinations[name]; there && before.Where() == d.Where() {
			room = s.fleet.Room(name, int64(d.KeepFree))
		}
		t.Places = append(t.Places, triedPlace(name, today[name], then[name], room))
	}
	return t, nil
}

func triedPlace(name string, today, then wire.Amount, room int64) planwire.TriedPlace {
	one := planwire.TriedPlace{Name: name, Today: today, Then: then, Room: room, Fits: room < 0 || then.Bytes <= room}
	come := fmt.Sprintf("%s to %s, %s;", comes(then.N), name, words.Bytes(then.Bytes))
	switch {
	case then.N == 0:
		one.Says = "Nothing is to come to " + name + "."
	case room < 0:
		one.Says = come + " how much room it has is not known."
	case one.Fits:
		one.Says = fmt.Sprintf("%s it has room for %s.", come, words.Bytes(room))
	default:
		one.Says = fmt.Sprintf("%s it has room for %s: %s do not fit.", come, words.Bytes(room), words.Bytes(then.Bytes-room))
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

// Doubts tells what a plan allows and its keeper hardly meant, as it stands and as the
// devices that run here can tell.
func (s *Trials) Doubts(ctx context.Context, p *plan.Plan) ([]string, error) {
	says := append([]string{}, words.Doubts(p)...)
	for _, d := range s.devices() {
		own, err := d.Told.Doubts(ctx, p)
		if err != nil {
			return nil, err
		}
		says = append(says, own...)
	}
	return says, nil
}

// newDoubts tells what a plan allows and its keeper hardly meant, as far as the plan in force does
// not allow it already; of the rest, one line.
func (s *Trials) newDoubts(ctx context.Context, p *plan.Plan) ([]string, error) {
	all, err := s.Doubts(ctx, p)
	now := s.book.Plan()
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
