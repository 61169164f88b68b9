package api

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"yardtide/engine/records"
	"yardtide/service"
	"yardtide/wire"
)

// This file merges the lists of the devices into pages.

type pageQuery struct {
	Device      string `query:"device" doc:"All when left out"`
	State       string `query:"state" enum:"waiting,preparing,sending,proving,safe,stuck,skipped,unsafe" doc:"Of the items; unsafe is all that are not safe yet"`
	Kind        string `query:"kind" enum:"photo,raw,graphic,video,audio,document,other"`
	Hold        string `query:"hold" enum:"network,metered,roaming,power,hours,idle,allowance,kind,pause,trouble,retry,proof,space,place,front,ready" doc:"Items of which this gate holds a copy"`
	Destination string `query:"destination" doc:"Items of which a copy is there, or goes there"`
	After       string `query:"after" doc:"The cursor of the page before"`
	Limit       int    `query:"limit" minimum:"1" maximum:"500" default:"100"`
}

// page merges the lists of the devices, newest first. Its cursor holds the last item of each.
func (s *Server) page(ctx context.Context, in *pageQuery) (*answer[wire.Page], error) {
	noCursor := huma.Error422UnprocessableEntity("This is not a cursor of this API.",
		&huma.ErrorDetail{Location: "query.after", Message: "take it from next of the page before"})
	after := map[string]string{}
	if in.After != "" {
		text, err := base64.RawURLEncoding.DecodeString(in.After)
		if err != nil || json.Unmarshal(text, &after) != nil || after == nil {
			return nil, noCursor
		}
	}
	devices := s.service.Devices()
	if in.Device != "" {
		d, err := s.device(in.Device)
		if err != nil {
			return nil, err
		}
		devices = []service.Device{d}
	}
	var lists []*list
	for _, d := range devices {
		lists = append(lists, &list{device: d, filter: wire.Filter{State: in.State, Kind: in.Kind, Hold: in.Hold,
			Destination: in.Destination, After: after[d.DeviceName()], Limit: share(in.Limit, len(devices))}})
	}
	items, more, err := merge(ctx, lists, in.Limit)
	var none records.NoItem
	if errors.As(err, &none) {
		return nil, noCursor
	}
	out := &answer[wire.Page]{wire.Page{Items: items}}
	if err != nil || !more {
		return out, err
	}
	for _, it := range items {
		after[it.Device] = it.Key
	}
	text, err := json.Marshal(after)
	out.Body.Next = base64.RawURLEncoding.EncodeToString(text)
	return out, err
}

// merge takes the newest items of lists, and tells whether more may follow.
func merge(ctx context.Context, lists []*list, limit int) (items []wire.Item, more bool, err error) {
	items = []wire.Item{}
	for len(items) < limit {
		next, err := newest(ctx, lists)
		if err != nil || next == nil {
			return items, false, err
		}
		items = append(items, next.items[0])
		next.items = next.items[1:]
	}
	return items, slices.ContainsFunc(lists, func(l *list) bool { return len(l.items) > 0 || !l.ended }), nil
}

// leastShare is how many items a device is asked for at least: a question costs as much as some of them.
const leastShare = 8

// share is how many items each of some devices is asked for at a time, for a page: twice what
// each has of it when they have alike.
func share(limit, devices int) int {
	if devices <= 1 {
		return limit
	}
	return min(limit, max(leastShare, 2*limit/devices))
}

// list is what a device has for a page, asked for as the page needs it.
type list struct {
	device service.Device
	filter wire.Filter
	items  []wire.Item // read, and not on the page
	ended  bool        // nothing follows them
}

// fill reads on where nothing is left of what was read.
func (l *list) fill(ctx context.Context) error {
	if len(l.items) > 0 || l.ended {
		return nil
	}
	items, err := l.device.Told.Items(ctx, l.filter)
	if records.IsGone(err) {
		l.ended = true // the status tells of it
		return nil
	}
	if err != nil {
		return err
	}
	l.items, l.ended = items, len(items) < l.filter.Limit
	if len(items) > 0 {
		l.filter.After = items[len(items)-1].Key
	}
	return nil
}

// newest is the list whose next item is the newest, the first of those that are alike; nil when nothing
// is left.
func newest(ctx context.Context, lists []*list) (is *list, err error) {
	for _, l := range lists {
		if err := l.fill(ctx); err != nil {
			return nil, err
		}
		if len(l.items) > 0 && (is == nil || l.items[0].TakenAt.After(is.items[0].TakenAt)) {
			is = l
		}
	}
	return is, nil
}
