package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"

	"yardtide/wire"
	"yardtide/wire/roomwire"
)

// Room makes room on devices.
type Room struct{ c Client }

// Room is the part that makes room on devices.
func (c Client) Room() Room { return Room{c} }

// Overview tells of room on every device.
func (r Room) Overview(ctx context.Context) (roomwire.RoomOverview, error) {
	return ask[roomwire.RoomOverview](ctx, r.c, http.MethodGet, "/room", nil)
}

// Plan tells what would go.
func (r Room) Plan(ctx context.Context, a roomwire.RoomAsked) (roomwire.RoomPlan, error) {
	return ask[roomwire.RoomPlan](ctx, r.c, http.MethodPost, "/room/plan", a)
}

// Make begins to make room.
func (r Room) Make(ctx context.Context, a roomwire.RoomAsked) (wire.Job, error) {
	return ask[wire.Job](ctx, r.c, http.MethodPost, "/room", a)
}

// TakeBack puts items of a device back, by their keys; all with none.
func (r Room) TakeBack(ctx context.Context, device string, items []string) (roomwire.RoomBack, error) {
	return ask[roomwire.RoomBack](ctx, r.c, http.MethodPost, "/room/take-back", roomwire.RoomBackAsked{Device: device, Items: items})
}

// Ledger lists a part of what went from a device: below a number, 0 for the newest.
func (r Room) Ledger(ctx context.Context, device string, held bool, below int64, limit int) (roomwire.RoomLedger, error) {
	q := url.Values{"device": {device}, "held": {strconv.FormatBool(held)}, "below": {strconv.FormatInt(below, 10)}, "limit": {strconv.Itoa(limit)}}
	return ask[roomwire.RoomLedger](ctx, r.c, http.MethodGet, "/room/ledger?"+q.Encode(), nil)
}
