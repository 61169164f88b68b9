package service

import (
	"context"
	"errors"
	"fmt"

	"yardtide/core/plantext"
	"yardtide/engine/link"
	"yardtide/wire"
)

// FoundBursts shows the bursts among the photos that a rule takes, device by device.
func (s *Trials) FoundBursts(ctx context.Context, rule string) ([]wire.BurstsFound, error) {
	p := s.book.PlanOrEmpty()
	if _, there := p.Rules[rule]; !there {
		return nil, plantext.EditError{Says: fmt.Sprintf("the plan has no rule %q", rule)}
	}
	list := []wire.BurstsFound{}
	for _, d := range s.devices() {
		if !p.Follows(d.DeviceName(), rule) {
			continue
		}
		found, err := d.Shows.FoundBursts(ctx, rule)
		var silent link.Silent
		if errors.As(err, &silent) {
			found, err = wire.BurstsFound{Device: d.DeviceName(), Bursts: []wire.Burst{}, Says: "It did not answer."}, nil
		}
		if err != nil {
			return nil, err
		}
		list = append(list, found)
	}
	return list, nil
}
