package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"yardtide/core/words"
	"yardtide/service/jobs"
	"yardtide/wire"
)

// Prove begins to have proofs of safe copies taken again.
func (s *Service) Prove(ctx context.Context, o wire.ProveOrder, devices []Device) (wire.Job, error) {
	before, err := s.proving(ctx, o.Destination)
	if err != nil {
		return wire.Job{}, err
	}
	of := before.Left
	for _, d := range devices {
		n, err := d.Orders.Reprove(ctx, o.Destination, o.Sample)
		if err != nil {
			return wire.Job{}, err
		}
		of += n
	}
	return s.followProofs(o.Destination, before, of)
}

// followProofs begins the job of so many proofs that are to be taken again: the devices
// take them by themselves, also after a start.
func (s *Service) followProofs(name string, before wire.Proving, of int64) (wire.Job, error) {
	return s.Jobs.Begin(wire.Job{Kind: wire.JobProofs, Destination: name, Says: "Proofs are taken again.", Of: of,
		Proving: &wire.Proving{Left: of, Stuck: before.Stuck}}, false,
		func(ctx context.Context, tell func(func(*wire.Job))) error {
			for {
				changed := s.Changes.Next()
				p, err := s.proving(ctx, name)
				if err != nil {
					return err
				}
				of = max(of, p.Left)
				tell(func(is *wire.Job) {
					is.Proving, is.Done, is.Of, is.Says = &p, of-p.Left, of, provingSays(p, p.Stuck-before.Stuck, of)
				})
				if p.Left == 0 {
					return nil
				}
				select {
				case <-ctx.Done():
					return s.stopProofs(ctx, name)
				case <-time.After(provingPace):
				}
				select {
				case <-ctx.Done():
					return s.stopProofs(ctx, name)
				case <-changed:
				case <-time.After(time.Minute):
				}
			}
		})
}

// provingPace is how often it is looked how far the proofs are.
const provingPace = 200 * time.Millisecond

// stopProofs takes back what was still to be proven, where the keeper stopped it.
func (s *Service) stopProofs(ctx context.Context, name string) error {
	if !errors.Is(context.Cause(ctx), jobs.ErrStopped) {
		return nil // it goes on at the next start
	}
	for _, d := range s.Devices() {
		if err := d.Orders.StopReproving(context.WithoutCancel(ctx), name); err != nil {
			return err
		}
	}
	return nil
}

func provingSays(p wire.Proving, lost, of int64) string {
	says := fmt.Sprintf("%s of %s proofs are taken.", words.Count(of-p.Left), words.Count(of))
	switch {
	case p.Left == 0 && lost <= 0:
		return "All of it is what was proven."
	case lost > 0 && p.Left == 0:
		says = "All proofs are taken."
	case p.Held == p.Left:
		says = fmt.Sprintf("What could be proven now is what it was. %s wait until the network costs nothing, a pause "+
			"ends, or the storage answers.", words.Count(p.Held))
	}
	switch {
	case lost == 1:
		says += " 1 copy is no longer what was proven: it is stuck, and says what to do."
	case lost > 1:
		says += " " + words.Count(lost) + " copies are no longer what was proven: they are stuck, and say what to do."
	}
	return says
}

// proving tells how far the proofs are that are taken again at a destination, or at
// all with "".
func (s *Service) proving(ctx context.Context, name string) (out wire.Proving, err error) {
	for _, d := range s.Devices() {
		one, err := d.Told.Proving(ctx, name)
		if err != nil {
			return out, err
		}
		out.Left, out.Held, out.Stuck = out.Left+one.Left, out.Held+one.Held, out.Stuck+one.Stuck
	}
	return out, nil
}

// Adopt begins to list what was at a destination before, so that it is not sent
// again. The first device here that the plan sends there from keeps it.
func (s *Service) Adopt(name string) (wire.Job, error) {
	p := s.Book.PlanOrEmpty()
	if _, there := p.Destinations[name]; !there {
		return wire.Job{}, ErrNoDestination
	}
	own := s.own()
	if len(own) == 0 {
		return wire.Job{}, errors.New("no device runs here")
	}
	chosen := own[0]
	if i := slices.IndexFunc(own, func(d Device) bool { return p.SendsTo(d.DeviceName(), name) }); i > 0 {
		chosen = own[i]
	}
	return s.Jobs.Begin(wire.Job{Kind: wire.JobAdoption, Destination: name, Says: "It is listed what lies there."}, false,
		func(ctx context.Context, tell func(func(*wire.Job))) error {
			found := func(a wire.Adopted) {
				tell(func(is *wire.Job) {
					is.Adopted, is.Done, is.Says = &a, a.Files, fmt.Sprintf("%s found so far, %s.", words.Files(a.Files),
						words.Bytes(a.Bytes))
				})
			}
			a, err := chosen.Orders.Adopt(ctx, name, found)
			if err == nil {
				tell(func(is *wire.Job) { is.Adopted, is.Done, is.Of, is.Says = &a, a.Files, a.Files, adoptedSays(name, a) })
			}
			return err
		})
}

func adoptedSays(name string, a wire.Adopted) string {
	says := fmt.Sprintf("%s holds %s (%s) that Yard Tide did not put there.", name, words.Files(a.Files),
		words.Bytes(a.Bytes))
	switch a.Compare {
	case 0:
		return says + " Nothing that waits has the size of one of them."
	case 1:
		return says + " 1 copy that waits has the size of one of them: the two are compared over a network that costs " +
			"nothing, and what is the same is safe and not sent."
	}
	return says + fmt.Sprintf(" %s copies that wait have the size of one of them: each is compared over a network "+
		"that costs nothing, and what is the same is safe and not sent.", words.Count(a.Compare))
}
