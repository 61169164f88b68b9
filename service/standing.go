package service

import (
	"context"
	"slices"
	"time"

	"yardtide/core/onvolume"
	"yardtide/core/plan"
	"yardtide/core/plantext"
)

// This file carries out the keeper's standing answers: cards that are taken up as every card is are named in the plan,
// each under its own identity, and folders that appear are taken up by a rule.

// standingEvery is how often it is looked whether there is something to answer, at most.
const standingEvery = time.Second

// answer answers until the context ends.
func (s *Service) answer(ctx context.Context) {
	for {
		next := s.Changes.Next()
		s.answerNow(ctx)
		select {
		case <-ctx.Done():
			return
		case <-next:
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(standingEvery):
		}
	}
}

func (s *Service) answerNow(ctx context.Context) {
	p := s.Book.Plan()
	if p == nil {
		return
	}
	for _, d := range s.Devices() {
		name := d.DeviceName()
		own := p.Devices[name]
		every, folders := own.Cards[onvolume.Any], own.NewFolders
		if len(every.Rules) == 0 && (folders == "" || folders == plan.LeaveFolders) {
			continue
		}
		st, err := d.Told.Status(ctx)
		if err != nil {
			continue // it is told elsewhere
		}
		for _, c := range st.Cards {
			if c.ByAny && len(every.Rules) > 0 {
				s.says(ctx, name, plan.Edit{Path: []string{"devices", name, "cards", c.ID},
					Value: map[string]any{"name": c.Name, "rules": every.Rules}})
			}
		}
		if st.Strays == nil || folders == "" || folders == plan.LeaveFolders {
			continue
		}
		for _, f := range st.Strays.New {
			if slices.ContainsFunc(own.Sources, func(of plan.Source) bool { return plan.Inside(f.Folder, of.Folder) }) {
				continue // it is taken up, and was not looked for since
			}
			source := map[string]any{"folder": f.Folder, "rules": []string{folders}}
			if len(f.Libraries) > 0 {
				source["originals-only"] = f.Libraries
			}
			s.says(ctx, name, plan.Edit{Path: []string{"devices", name, "sources", "+"}, Value: source})
		}
	}
}

// says has the plan say more of a device.
func (s *Service) says(ctx context.Context, device string, edit plan.Edit) {
	_, base := s.Book.Text()
	if _, err := s.Book.Edit(ctx, base, func(text string) (string, error) { return plantext.Set(text, edit) }); err != nil {
		s.Log.Warn("a standing answer could not be carried out", "device", device, "err", err)
	}
}
