package api

import (
	"context"
	"errors"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yardtide/service/household"
	"yardtide/wire"
	"yardtide/wire/planwire"
)

// deviceRoutes are the calls about devices elsewhere.
func (s *Server) deviceRoutes() {
	type named struct {
		Device string `path:"device"`
	}
	call(s, "add-device", http.MethodPost, "/devices/{device}/code", "A one-time code with which a device joins",
		func(_ context.Context, in *named) (*answer[wire.JoinCode], error) {
			code, err := s.service.Household.NewCode(in.Device, time.Now())
			return &answer[wire.JoinCode]{code}, refusedBy(err)
		})
	call(s, "rename-device", http.MethodPost, "/devices/{device}/rename",
		"Call a device elsewhere otherwise: here, in the plan, and there", func(ctx context.Context, in *struct {
			Device string `path:"device"`
			Body   wire.Rename
		}) (*answer[planwire.PlanEdited], error) {
			edited, err := s.service.Household.Rename(ctx, in.Device, in.Body.To)
			return &answer[planwire.PlanEdited]{edited}, destinationProblem(refusedBy(err))
		})
	call(s, "revoke-device", http.MethodPost, "/devices/{device}/revoke",
		"Let a device elsewhere go: it is answered no more", func(_ context.Context, in *named) (*answer[wire.Revoked],
			error) {
			r, err := s.service.Household.Revoke(in.Device)
			return &answer[wire.Revoked]{r}, refusedBy(err)
		})
	call(s, "device-day", http.MethodGet, "/devices/{device}/day", "What a device sensed and sent in a day",
		func(ctx context.Context, in *struct {
			Device string `path:"device"`
			Day    string `query:"day" pattern:"^[0-9]{4}-[0-9]{2}-[0-9]{2}$" doc:"Such as 2026-11-25; today when left out"`
		}) (*answer[wire.DeviceDay], error) {
			d, err := s.device(in.Device)
			if err != nil {
				return nil, err
			}
			at := time.Now()
			if in.Day != "" {
				// At noon, whatever the zone, it is that day.
				if at, err = time.ParseInLocation(time.DateOnly, in.Day, s.service.ZoneOf(in.Device)); err != nil {
					return nil, huma.Error422UnprocessableEntity("There is no such day.")
				}
				at = at.Add(12 * time.Hour)
			}
			day, err := d.Told.Day(ctx, at)
			return &answer[wire.DeviceDay]{day}, err
		})
	call(s, "home-network", http.MethodGet, "/home-network", "Where the service listens for devices elsewhere",
		func(context.Context, *struct{}) (*answer[wire.HomeNetwork], error) {
			return &answer[wire.HomeNetwork]{s.service.Household.HomeNetwork()}, nil
		})
	call(s, "set-home-network", http.MethodPut, "/home-network", "Listen for devices elsewhere, or no more",
		func(_ context.Context, in *request[wire.HomeNetworkEdit]) (*answer[wire.HomeNetwork], error) {
			if err := s.service.Household.SetHomeNetwork(in.Body.Address); err != nil {
				return nil, refusedBy(err)
			}
			// It takes a moment: the answer tells how it went, where that is known by then.
			for range 20 {
				if h := s.service.Household.HomeNetwork(); h.Listening != (in.Body.Address == "") || h.Problem != "" {
					break
				}
				time.Sleep(25 * time.Millisecond)
			}
			return &answer[wire.HomeNetwork]{s.service.Household.HomeNetwork()}, nil
		})
}

// refusedBy says a refusal in words of the service's.
func refusedBy(err error) error {
	var refused household.Refused
	switch {
	case errors.As(err, &refused):
		return huma.Error422UnprocessableEntity(sentence(refused))
	case errors.Is(err, household.ErrNoDevice):
		return huma.Error404NotFound("No device elsewhere has this name.")
	}
	return err
}
