package service

import (
	"context"

	"golang.org/x/crypto/ssh"

	"yardtide/core/plan"
	"yardtide/engine/inbox"
	"yardtide/service/phones"
	"yardtide/wire"
	"yardtide/wire/planwire"
)

// phonesOf tie the phones that hand over to the rest of the service.
func phonesOf(s *Service) phones.Options {
	here := s.Inboxes // what they handed over goes from this machine, under its conditions
	if here == nil && len(s.Members) > 0 {
		here = s.Members[0].Sensor
	}
	away := ""
	if s.Joined != nil {
		away = s.Joined.Home.Yard
	}
	return phones.Options{Away: away, Home: func() wire.HomeNetwork { return s.Household.HomeNetwork() },
		HostKey: func() ssh.PublicKey { return s.Household.Authority.HostKey().PublicKey() },
		Dir:     s.Dir, Log: s.Log, Plan: s.Book.PlanOrEmpty, Tell: s.Changes.Tell, HasAny: s.fleet.HasAny,
		Free: func() int64 { return inbox.DiskFree(s.Dir) },
		Edit: func(ctx context.Context, edits []plan.Edit) error {
			_, err := s.Trials.EditPlan(ctx, planwire.PlanEdits{Edits: edits})
			return err
		},
		Begin: func(ctx context.Context, name, root string) (phones.Taker, error) {
			d, err := s.openDevice(ctx, Local{Name: name, Root: root, Sensor: here, Inbox: true})
			if err != nil {
				return phones.Taker{}, err
			}
			d.SetPlan(s.Book.PlanOrEmpty())
			return phones.Taker{Records: d.Records, Under: d.Told.Under}, nil
		},
	}
}
