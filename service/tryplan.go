package service

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"yardtide/core/gate"
	"yardtide/core/plantext"
	"yardtide/wire"
)

// TryPlan tells what a text would do to the yard's items, beside what the plan in force
// does. It changes nothing. The error is plantext.Problems.
func (s *Service) TryPlan(ctx context.Context, file, text string) (wire.PlanTried, error) {
	p, err := plantext.Parse(file, []byte(text))
	if err != nil {
		return wire.PlanTried{}, err
	}
	t := wire.PlanTried{Says: s.WouldChange(text), Devices: []wire.TriedDevice{}, Places: []wire.TriedPlace{}}
	doubts, err := s.newDoubts(ctx, p)
	if err != nil {
		return t, err
	}
	t.Notes = append(s.PlaceNotes(p), doubts...)
	before, version := s.PlanText()
	if t.Text, err = textDiff(before, text, fmt.Sprintf("version %d", version), "this text"); err != nil {
		return t, err
	}
	today, then := map[string]wire.Amount{}, map[string]wire.Amount{}
	sum := func(into, from map[string]wire.Amount) {
		for name, a := range from {
			into[name] = into[name].Plus(a.N, a.Bytes)
		}
	}
	for _, d := range s.Devices() {
		one, err := d.TryPlan(ctx, p)
		if err != nil {
			return t, err
		}
		t.Devices = append(t.Devices, one.TriedDevice)
		sum(today, one.Today)
		sum(then, one.Then)
	}
	now := s.planOrEmpty()
	for _, name := range slices.Sorted(maps.Keys(p.Destinations)) {
		d, room := p.Destinations[name], int64(-1)
		if before, there := now.Destinations[name]; there && before.Where() == d.Where() {
			room = s.fleet.Room(name, int64(d.KeepFree))
		}
		t.Places = append(t.Places, triedPlace(name, today[name], then[name], room))
	}
	return t, nil
}

func triedPlace(name string, today, then wire.Amount, room int64) wire.TriedPlace {
	one := wire.TriedPlace{Name: name, Today: today, Then: then, Room: room, Fits: room < 0 || then.Bytes <= room}
	come := fmt.Sprintf("%s to %s, %s;", comes(then.N), name, gate.Bytes(then.Bytes))
	switch {
	case then.N == 0:
		one.Says = "Nothing is to come to " + name + "."
	case room < 0:
		one.Says = come + " how much room it has is not known."
	case one.Fits:
		one.Says = fmt.Sprintf("%s it has room for %s.", come, gate.Bytes(room))
	default:
		one.Says = fmt.Sprintf("%s it has room for %s: %s do not fit.", come, gate.Bytes(room), gate.Bytes(then.Bytes-room))
	}
	if today != then {
		one.Says += fmt.Sprintf(" Today it is %s, %s.", files(today.N), gate.Bytes(today.Bytes))
	}
	return one
}

func comes(n int64) string {
	if n == 1 {
		return "1 file is to come"
	}
	return files(n) + " are to come"
}
