package device

import (
	"cmp"
	"context"
	"slices"
	"time"

	"yardtide/core/gate"
	"yardtide/engine/records"
	"yardtide/engine/tell"
)

// This file gathers what decisions rest on, and what is told: core/gate decides, tell
// tells.

// outside is what is known now of the device alone: no place is in it, so nothing goes
// anywhere by it.
func (d *Device) outside() gate.Situation {
	d.mu.Lock()
	defer d.mu.Unlock()
	return gate.Situation{Device: d.Name, Plan: d.plan, Now: d.now.Taken(d.plan.Devices[d.Name].UnknownNetwork),
		Pause: d.pause, Time: time.Now(), Zone: d.zone}
}

// outlook is what is known now without the records: what was spent and what waits is
// not in it, so no lane with an allowance is open by it.
func (d *Device) outlook() gate.Situation {
	s := d.outside()
	s.Places = map[string]gate.At{}
	for name, dest := range s.Plan.Destinations {
		at := d.places.At(name)
		at.Left = d.Others.Left(name, int64(dest.KeepFree))
		if room := d.Others.Room(name, int64(dest.KeepFree)); at.Left >= 0 {
			at.Others = max(0, room-at.Left)
		}
		s.Places[name] = at
	}
	return s
}

// situation is all that decisions rest on, and how many copies of each class there are
// in each state.
func (d *Device) situation(ctx context.Context) (gate.Situation, []records.Counter, error) {
	s := d.outlook()
	counters, err := tell.Gather(ctx, d.Records, &s)
	return s, counters, err
}

// Known is what the device knows beside its records.
func (d *Device) Known() tell.Known {
	now := time.Now()
	s := d.outlook()
	k := tell.Known{Plan: s.Plan, Room: d.Others.Left, Conditions: s.Now, Pause: s.Pause, Places: s.Places,
		Sources: map[string]tell.Source{}, Stands: map[string]tell.Stand{}}
	for name := range s.Plan.Destinations {
		id, seen := d.places.Stands(name)
		k.Stands[name] = tell.Stand{ID: id, Seen: seen}
	}
	k.Sends, k.Doubles = d.sends(now), d.upkeep.Doubles()
	var rate int64
	for _, s := range k.Sends {
		rate += s.Rate
	}
	k.Awake, k.Strays = d.waking.told(rate, now), d.strays.now()
	k.Cards, k.Disks = d.cards.told(s.Plan), d.rooms.disks()
	d.mu.Lock()
	k.Modem, k.Problem = d.modem, d.mending.now()
	d.mu.Unlock()
	for _, src := range s.Plan.Devices[d.Name].Sources {
		told := d.sources.told(src.Folder)
		told.Stays = d.rooms.stays(src)
		k.Sources[src.Folder] = told
	}
	return k
}

// sends are what is on its way, in order.
func (d *Device) sends(now time.Time) []tell.Send {
	list := []tell.Send{}
	d.mu.Lock()
	for _, s := range d.active {
		c := s.Copy()
		list = append(list, tell.Send{Send: s.Told(d.Records.Catalogue.Key(c.Item), now), Copy: c.ID, Rule: c.Rule})
	}
	d.mu.Unlock()
	list = append(list, d.smaller.told(now)...)
	slices.SortFunc(list, func(a, b tell.Send) int {
		return cmp.Or(cmp.Compare(a.Item, b.Item), cmp.Compare(a.Destination, b.Destination))
	})
	return list
}
