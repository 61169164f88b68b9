package link

import (
	"context"
	"encoding/json"
	"slices"

	"yardtide/core/queue"
	"yardtide/wire"
)

// This file tells of copies that their device calls safe and that are not there: seen by
// another device, while their own was not heard of since. They are doubted until it is.

// losing is the order by which a device takes copies back from safe.
const losing = "lose"

// doubted are the paths that the device has still to take back from safe, by destination.
func (t Told) doubted() (list []ofPlace) {
	o := &t.m.orders
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, one := range o.kept {
		var at ofPlace
		if one.Do == losing && json.Unmarshal(one.With, &at) == nil {
			list = append(list, at)
		}
	}
	return list
}

func (t Told) doubts(destination, path string) bool {
	return slices.ContainsFunc(t.doubted(), func(at ofPlace) bool {
		return at.Destination == destination && at.Path == path
	})
}

// doubtedCopy tells whether a copy is doubted, and why.
func doubtedCopy(list []ofPlace, c wire.Copy) (says string, is bool) {
	if c.State != string(queue.Safe) {
		return "", false
	}
	for _, at := range list {
		if at.Destination == c.Destination && at.Path == c.Remote {
			return at.Says + " It is doubted until its device is heard of.", true
		}
	}
	return "", false
}

// doubtItems shows items as owing a proof that rest on what is doubted.
func (t Told) doubtItems(items []wire.Item) []wire.Item {
	list := t.doubted()
	if len(list) == 0 {
		return items
	}
	for i := range items {
		it := &items[i]
		it.Copies = slices.Clone(it.Copies)
		for k := range it.Copies {
			says, is := doubtedCopy(list, it.Copies[k])
			if !is {
				continue
			}
			it.Copies[k].State, it.Copies[k].Says = string(queue.Proving), says
			if it.State == string(queue.Safe) {
				it.State, it.Says = string(queue.Proving), says
			}
		}
	}
	return items
}

// doubtStatus takes what is doubted out of what is told to be safe, in numbers.
func (t Told) doubtStatus(ctx context.Context, d *wire.Device) error {
	seen := map[int64]bool{}
	for _, at := range t.doubted() {
		copies, err := t.m.Records().Proofs.RestingOn(ctx, at.Destination, at.Path)
		if err != nil {
			return err
		}
		for _, c := range copies {
			item := c.Item
			if c.PartOf != 0 {
				item = c.PartOf
			}
			if seen[item] {
				continue
			}
			seen[item] = true
			told, err := t.teller().Story(ctx, t.m.Records().Catalogue.Key(item))
			if err != nil {
				return err
			}
			if told.Item.State != string(queue.Safe) {
				continue
			}
			safe, owing := d.States[queue.Safe], d.States[queue.Proving]
			d.States[queue.Safe] = wire.Amount{N: safe.N - 1, Bytes: safe.Bytes - told.Item.Bytes}
			d.States[queue.Proving] = owing.Plus(1, told.Item.Bytes)
		}
	}
	return nil
}
