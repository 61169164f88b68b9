package service

import (
	"context"
	"time"

	"yardtide/core/plan"
	"yardtide/core/plantext"
)

// This file names cards in the plan that are taken up as every card is: what is taken up of one is kept under its own
// identity, and goes on when it comes again.

// cardsEvery is how often it is looked whether a card came, at most.
const cardsEvery = time.Second

// nameCards names them until the context ends.
func (s *Service) nameCards(ctx context.Context) {
	for {
		next := s.Changes.Next()
		s.nameCardsNow(ctx)
		select {
		case <-ctx.Done():
			return
		case <-next:
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(cardsEvery):
		}
	}
}

func (s *Service) nameCardsNow(ctx context.Context) {
	p := s.Book.Plan()
	if p == nil {
		return
	}
	for _, d := range s.Devices() {
		all := p.Devices[d.DeviceName()].Cards[plan.AnyVolume]
		if len(all.Rules) == 0 {
			continue
		}
		st, err := d.Told.Status(ctx)
		if err != nil {
			continue // it is told elsewhere
		}
		for _, c := range st.Cards {
			if !c.ByAny {
				continue
			}
			_, base := s.Book.Text()
			edit := plan.Edit{Path: []string{"devices", d.DeviceName(), "cards", c.ID}, Value: map[string]any{"name": c.Name, "rules": all.Rules}}
			if _, err := s.Book.Edit(ctx, base, func(text string) (string, error) { return plantext.Set(text, edit) }); err != nil {
				s.Log.Warn("a card could not be named in the plan", "device", d.DeviceName(), "volume", c.ID, "err", err)
			}
		}
	}
}
