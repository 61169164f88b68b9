package api

import (
	"context"
	"net/http"

	"yardtide/engine/records"
	"yardtide/wire"
	"yardtide/wire/roomwire"
)

// This file makes room on devices.

func (s *Server) roomRoutes() {
	call(s, "room", http.MethodGet, "/room", "How much room is on each device, what lies in its holding place, and what goes by itself",
		func(ctx context.Context, _ *struct{}) (*answer[roomwire.RoomOverview], error) {
			o, err := s.service.Room.Overview(ctx)
			return &answer[roomwire.RoomOverview]{o}, err
		})
	call(s, "room-plan", http.MethodPost, "/room/plan", "What may go from a device to make room; nothing is begun",
		func(ctx context.Context, in *request[roomwire.RoomAsked]) (*answer[roomwire.RoomPlan], error) {
			p, err := s.service.Room.Plan(ctx, in.Body)
			return &answer[roomwire.RoomPlan]{p}, err
		})
	call(s, "make-room", http.MethodPost, "/room", "Begin to make room: what may go is proven again and moved into the holding place",
		func(ctx context.Context, in *request[roomwire.RoomAsked]) (*answer[wire.Job], error) {
			return s.begun(s.service.Room.Begin(ctx, in.Body))
		})
	call(s, "take-back", http.MethodPost, "/room/take-back", "Put items from the holding place back where they lay",
		func(ctx context.Context, in *request[roomwire.RoomBackAsked]) (*answer[roomwire.RoomBack], error) {
			ids := make([]int64, len(in.Body.Items))
			for i, key := range in.Body.Items {
				id, err := records.NumberOf(key)
				if err != nil {
					return nil, err
				}
				ids[i] = id
			}
			back, err := s.service.Room.TakeBack(ctx, in.Body.Device, ids)
			return &answer[roomwire.RoomBack]{back}, err
		})
	call(s, "room-ledger", http.MethodGet, "/room/ledger", "What went from a device, when, and on which proofs; the newest first",
		func(ctx context.Context, in *struct {
			Device string `query:"device" required:"true"`
			Held   bool   `query:"held" doc:"Only what is in the holding place"`
			Below  int64  `query:"below" minimum:"0" doc:"Only below this number, as the part before told"`
			Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
		}) (*answer[roomwire.RoomLedger], error) {
			l, err := s.service.Room.Ledger(ctx, in.Device, in.Held, in.Below, in.Limit)
			return &answer[roomwire.RoomLedger]{l}, err
		})
}
