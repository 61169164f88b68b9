package api

import (
	"context"
	"errors"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yardtide/service/phones"
	"yardtide/wire/phonewire"
)

// phoneRoutes are the keeper's calls about phones that hand over.
func phoneRoutes(s *Server) {
	type named struct {
		Phone string `path:"phone"`
	}
	of := func(err error) error {
		if errors.Is(err, phones.ErrNoPhone) {
			return huma.Error404NotFound(sentence(err))
		}
		return refusedBy(err)
	}
	call(s, "inbox-phones", http.MethodGet, "/phones", "The phones that hand over, by their browser or an app",
		func(ctx context.Context, _ *struct{}) (*answer[[]phonewire.InboxPhone], error) {
			list, err := s.service.Phones.All(ctx)
			return &answer[[]phonewire.InboxPhone]{list}, err
		})
	call(s, "add-inbox-phone", http.MethodPost, "/phones",
		"Add a phone that hands over, or give one new keys: those before are answered no more. The keys are told once",
		func(ctx context.Context, in *request[phonewire.PhoneAdd]) (*answer[phonewire.PhoneKeys], error) {
			one, keys, err := s.service.Phones.Add(ctx, in.Body, time.Now())
			if err != nil {
				return nil, destinationProblem(of(err))
			}
			told, err := one.Doors(keys)
			return &answer[phonewire.PhoneKeys]{told}, err
		})
	call(s, "set-inbox-phone", http.MethodPatch, "/phones/{phone}", "How much a phone's inbox may take, how long it holds what is safe, and its SSH keys",
		func(_ context.Context, in *struct {
			Phone string `path:"phone"`
			Body  phonewire.PhoneSet
		}) (*answer[struct{}], error) {
			return &answer[struct{}]{}, of(s.service.Phones.Set(in.Phone, in.Body))
		})
	call(s, "revoke-inbox-phone", http.MethodPost, "/phones/{phone}/revoke",
		"Have a phone answered no more; what it was sending ends, and what it handed over goes on",
		func(_ context.Context, in *named) (*answer[struct{}], error) {
			return &answer[struct{}]{}, of(s.service.Phones.Revoke(in.Phone))
		})
	call(s, "take-back-inbox-phone", http.MethodPost, "/phones/{phone}/take-back", "Put what lies in a phone's holding place into its inbox again",
		func(ctx context.Context, in *named) (*answer[phonewire.TakenBack], error) {
			one, is := s.service.Phones.Phone(in.Phone)
			if !is {
				return nil, of(phones.ErrNoPhone)
			}
			n, err := one.Inbox.TakeBack(ctx)
			return &answer[phonewire.TakenBack]{phonewire.TakenBack{N: n}}, err
		})
	call(s, "phone-network", http.MethodGet, "/phone-network", "Where the service listens for phones, beside the home network's own address",
		func(context.Context, *struct{}) (*answer[phonewire.PhoneNetwork], error) {
			n, _ := s.service.Phones.Network()
			return &answer[phonewire.PhoneNetwork]{n}, nil
		})
	call(s, "set-phone-network", http.MethodPut, "/phone-network", "Listen for phones without encryption, and for SFTP, or no more",
		func(_ context.Context, in *request[phonewire.PhoneNetwork]) (*answer[phonewire.PhoneNetwork], error) {
			if err := s.service.Phones.SetNetwork(in.Body); err != nil {
				return nil, of(err)
			}
			n, _ := s.service.Phones.Network()
			for range 20 { // it takes a moment: the answer tells how it went, where that is known by then
				if n, _ = s.service.Phones.Network(); (n.Plain == "" || n.PlainAt+n.PlainProblem != "") &&
					(n.SFTP == "" || n.SFTPAt+n.SFTPProblem != "") {
					break
				}
				time.Sleep(25 * time.Millisecond)
			}
			return &answer[phonewire.PhoneNetwork]{n}, nil
		})
}
