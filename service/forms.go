package service

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"yardtide/core/forecast"
	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/plantext"
	"yardtide/core/words"
	"yardtide/engine/link"
	"yardtide/wire/planwire"
)

// formOf is the rendition that is meant: one of the plan by its name, else what is given.
func (s *Trials) formOf(f planwire.Form) (plan.Rendition, error) {
	if len(f.Form) > 0 {
		return plantext.ReadRendition(f.Form)
	}
	named, there := s.book.PlanOrEmpty().Renditions[f.Name]
	if !there {
		return named, plantext.EditError{Says: fmt.Sprintf("the plan has no rendition %q", f.Name)}
	}
	return named, nil
}

// CompareForm shows an item as shot and in a form.
func (s *Trials) CompareForm(ctx context.Context, d Device, key string,
	t planwire.FormTry) (planwire.FormCompared, error) {
	r, err := s.formOf(t.Form)
	if err != nil {
		return planwire.FormCompared{}, err
	}
	return d.Shows.CompareForm(ctx, key, r, t.X, t.Y)
}

// ForecastForm tells what a form would come to for all of a kind that a rule takes, by a
// sample of each device's own.
func (s *Trials) ForecastForm(ctx context.Context, a planwire.FormAsked) (planwire.FormForecast, error) {
	r, err := s.formOf(a.Form)
	if err != nil {
		return planwire.FormForecast{}, err
	}
	kind := media.Kind(a.Kind)
	if !sampled(kind) {
		return planwire.FormForecast{},
			plantext.EditError{Says: "what " + kind.Plural() + " come to is not told: they go as shot"}
	}
	f, err := s.comesTo(ctx, r, a.Rule, kind, 0)
	if err != nil {
		return f, err
	}
	f.Says = s.forecastSays(a, f)
	return f, nil
}

// sampled tells whether a few of a kind are made, of clips a piece, to tell what a form comes to.
func sampled(k media.Kind) bool { return slices.Contains(plan.Reducible, k) }

// comesTo tells in figures what a form would come to for all of a kind that a rule takes, by a sample of
// each device, of so many at most, 0 for the usual number.
func (s *Trials) comesTo(ctx context.Context, r plan.Rendition, rule string, kind media.Kind,
	most int) (planwire.FormForecast, error) {
	f := planwire.FormForecast{Missing: []string{}}
	var low, likely, high int64
	for _, d := range s.devices() {
		one, err := d.Shows.SampleForm(ctx, rule, kind, r, most)
		var silent link.Silent
		if errors.As(err, &silent) {
			f.Missing = append(f.Missing, d.DeviceName())
			continue
		}
		if err != nil {
			return f, err
		}
		f.All = f.All.Plus(one.N, one.Bytes)
		f.Looked += len(one.Samples)
		if is, ok := forecast.Total(one.Bytes, one.N, one.Samples); ok {
			low, likely, high, f.Known = low+is.Low, likely+is.Likely, high+is.High, true
		} else if one.N > 0 { // nothing is known of these: they may go as shot
			likely, high = likely+one.Bytes, high+one.Bytes
		}
	}
	f.Range = forecast.Range{Low: low, Likely: likely, High: high}
	return f, nil
}

func (s *Trials) forecastSays(a planwire.FormAsked, f planwire.FormForecast) string {
	if !f.Known {
		return "There is nothing of it yet by which that could be told."
	}
	says := fmt.Sprintf("%s: as shot %s; so %s", words.Things(f.All.N, media.Kind(a.Kind)), words.Bytes(f.All.Bytes),
		words.Between(f.Range))
	for _, to := range s.book.PlanOrEmpty().Rules[a.Rule].To {
		if free := s.fleet.SpaceNow(to).Free; free >= 0 {
			says += fmt.Sprintf("; %s has %s free", to, words.Bytes(free))
		}
	}
	says += fmt.Sprintf(". By %d of them that were made.", f.Looked)
	if len(f.Missing) > 0 {
		says += " Without " + words.And(f.Missing) + ", which did not answer."
	}
	return says
}
