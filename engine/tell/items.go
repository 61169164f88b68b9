package tell

import (
	"context"
	"slices"
	"strings"

	"yardtide/core/gate"
	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/core/words"
	"yardtide/engine/records"
	"yardtide/wire"
)

// This file tells of items, as people count them: each with its copy at every
// place.

// Items lists items, newest first. Filter.After is the key of the last item of the
// page before; the error is records.NoItem when it is none.
func (t Teller) Items(ctx context.Context, f wire.Filter) ([]wire.Item, error) {
	v, err := t.view(ctx)
	if err != nil {
		return nil, err
	}
	w := records.Wanted{Limit: f.Limit, Kind: media.Kind(f.Kind), Standing: func(st records.Standing) bool { return v.matches(st, f) }}
	// What no rule takes has no copy: it is left out, as what a rule asks for no longer.
	w.LeftOut = queue.State(f.State) == queue.Skipped && f.Destination == "" && f.Hold == ""
	if f.After != "" {
		after, err := t.From.Catalogue.ByKey(ctx, f.After)
		if err != nil {
			return nil, err
		}
		w.After = after.ID
	}
	if f.Hold != "" {
		retrying := gate.Name(f.Hold) == gate.Retry
		w.Retrying = &retrying
		if gate.Name(f.Hold) == gate.Place {
			w.Retrying = nil // what was safe there waits for no try
		}
	}
	items, err := t.From.Catalogue.Items(ctx, w, v.Time)
	if err != nil {
		return nil, err
	}
	return t.present(ctx, v, items)
}

// matches tells whether items that stand alike pass a filter.
func (v view) matches(st records.Standing, f wire.Filter) bool {
	state, _, _ := v.together(st.Kind, st.Copies)
	is := f.State == "" || state == queue.State(f.State) ||
		f.State == queue.Unsafe && state != queue.Safe && state != queue.Skipped
	if !is || f.Kind != "" && st.Kind != media.Kind(f.Kind) {
		return false
	}
	if f.Destination != "" && !slices.ContainsFunc(st.Copies,
		func(c records.Stand) bool { return c.Destination == f.Destination }) {
		return false
	}
	return f.Hold == "" || slices.ContainsFunc(st.Copies, func(c records.Stand) bool {
		return c.Shelf == plan.Main && (f.Destination == "" || c.Destination == f.Destination) &&
			v.held(c, st.Kind, gate.Name(f.Hold))
	})
}

// held tells whether a gate holds copies that stand so.
func (v view) held(c records.Stand, kind media.Kind, name gate.Name) bool {
	if v.Shown(c.State, c.Destination) != c.State {
		return name == gate.Place
	}
	switch c.State {
	case queue.Waiting:
		if name == gate.Retry {
			return true // the page leaves only those that wait for a time
		}
		holds, _ := v.waits(c.Class(kind))
		return len(holds) > 0 && holds[0].Gate == name
	case queue.Proving:
		h, shut := v.OwesProof(c.Destination)
		return shut && h.Gate == name
	}
	return false
}

// Find lists items by name, path from the source on, or part of a name.
func (t Teller) Find(ctx context.Context, text string, limit int) ([]wire.Item, error) {
	items, err := t.From.Catalogue.Find(ctx, text, limit)
	if err != nil {
		return nil, err
	}
	if items, err = t.wholes(ctx, items); err != nil {
		return nil, err
	}
	v, err := t.view(ctx)
	if err != nil {
		return nil, err
	}
	return t.present(ctx, v, items)
}

// ItemsOf lists items by their numbers in the records, in the order in which they are named.
func (t Teller) ItemsOf(ctx context.Context, ids []int64) ([]wire.Item, error) {
	items, err := t.From.Catalogue.ItemsOf(ctx, ids)
	if err != nil {
		return nil, err
	}
	v, err := t.view(ctx)
	if err != nil {
		return nil, err
	}
	return t.present(ctx, v, items)
}

// wholes are the items that files are, or are parts of, each once.
func (t Teller) wholes(ctx context.Context, files []records.Item) (items []records.Item, err error) {
	seen := map[int64]bool{}
	for _, it := range files {
		if seen[it.Whole()] {
			continue
		}
		seen[it.Whole()] = true
		if it.PartOf != 0 {
			main, ok, err := t.From.Catalogue.Item(ctx, it.PartOf)
			if err != nil {
				return nil, err
			}
			if ok {
				it = main
			}
		}
		items = append(items, it)
	}
	return items, nil
}

// Story tells an item and all that happened to it. The error is records.NoItem for
// a key that is none.
func (t Teller) Story(ctx context.Context, key string) (wire.Story, error) {
	it, err := t.From.Catalogue.ByKey(ctx, key)
	if err != nil {
		return wire.Story{}, err
	}
	all, err := t.wholes(ctx, []records.Item{it})
	if err != nil {
		return wire.Story{}, err
	}
	it = all[0]
	v, err := t.view(ctx)
	if err != nil {
		return wire.Story{}, err
	}
	copies, err := t.From.Catalogue.CopiesOf(ctx, []int64{it.ID})
	if err != nil {
		return wire.Story{}, err
	}
	events, err := t.From.Queue.Story(ctx, it.ID)
	if err != nil {
		return wire.Story{}, err
	}
	s := wire.Story{Item: t.presentItem(v, it, copies[it.ID]), Cost: costOf(v.Situation, copies[it.ID]),
		Story: []wire.Event{{At: records.FromMS(it.FoundMS), State: string(queue.Waiting), Says: "Found on " + t.Of + "."}}}
	for _, e := range events {
		s.Story = append(s.Story, wire.Event{At: records.FromMS(e.AtMS), Destination: e.Destination, Shelf: e.Shelf,
			Part: e.Part, State: string(e.State), Says: e.Says})
	}
	return s, nil
}

// present tells items with their copies.
func (t Teller) present(ctx context.Context, v view, items []records.Item) ([]wire.Item, error) {
	ids := make([]int64, len(items))
	for i, it := range items {
		ids[i] = it.ID
	}
	copies, err := t.From.Catalogue.CopiesOf(ctx, ids)
	if err != nil {
		return nil, err
	}
	list := make([]wire.Item, len(items))
	for i, it := range items {
		list[i] = t.presentItem(v, it, copies[it.ID])
	}
	return list, nil
}

func (t Teller) presentItem(v view, it records.Item, copies []records.Copy) wire.Item {
	told := wire.Item{
		Key: t.From.Catalogue.Key(it.ID), Device: t.Of, Name: it.Name, Path: it.FullPath(), Kind: string(it.Kind),
		Bytes: it.AllBytes, Parts: []wire.Part{},
		TakenAt: it.TakenAt(), TakenFrom: string(it.TakenFrom), Camera: it.Camera, Caption: it.Caption, Rating: it.Rating, Keeper: records.KeeperOf(it.Keeper), Gone: it.GoneMS != 0,
		Copies: []wire.Copy{}, Position: records.PositionOf(it.Placed, it.Lat, it.Lon),
	}
	var stands []records.Stand
	named := map[string]bool{}
	for _, c := range copies {
		one := v.presentCopy(c)
		if c.State == queue.Waiting && len(one.Holds) == 0 {
			one.Holds = append(one.Holds, after(c, copies)...)
		}
		told.Copies = append(told.Copies, one)
		if c.PartOf != 0 && !named[c.Name] {
			named[c.Name] = true
			told.Parts = append(told.Parts, wire.Part{Name: c.Name, Kind: string(c.Kind), Bytes: c.Size})
		}
		if c.Shelf == plan.Main || c.Shelf == plan.Small {
			stands = append(stands, records.Stand{Destination: c.Destination, Rule: c.Rule, State: c.State, Shelf: c.Shelf,
				Kind: partKind(c)})
		}
	}
	state, _, small := v.together(it.Kind, stands)
	told.State, told.InSmall = string(state), small
	told.Says = standsAt(told.Copies)
	if len(copies) == 0 {
		told.State, told.Says = string(queue.Skipped), v.leftOut(it)
	}
	if it.Older == records.OlderIsLeft {
		told.Says = strings.TrimSuffix(words.OlderVersion+" "+told.Says, " ")
	}
	return told
}

// after tells which other copy of an item at the same place goes before one: a part has the
// name of its main file, and a pick is made of the copy itself.
func after(c records.Copy, all []records.Copy) []gate.Hold {
	for _, o := range all {
		if o.Destination != c.Destination || o.Shelf != plan.Main || o.PartOf != 0 && c.PartOf != 0 || o.ID == c.ID {
			continue
		}
		switch {
		case c.PartOf != 0 && o.Item == c.PartOf && (o.State == queue.Waiting || o.State == queue.Preparing ||
			o.State == queue.Sending):
			return gate.After("its main file")
		case c.Shelf.IsPick() && o.Item == c.Item && o.State != queue.Safe:
			return gate.After("the copy that it is a pick of")
		}
	}
	return nil
}

// partKind is the kind of a part, "" for a main file.
func partKind(c records.Copy) media.Kind {
	if c.PartOf == 0 {
		return ""
	}
	return c.Kind
}

// leftOut tells why nothing of an item is sent.
func (v view) leftOut(it records.Item) string {
	for _, s := range v.Plan.Devices[v.Device].Sources {
		if s.Folder != it.Source {
			continue
		}
		if _, why := v.Plan.Chooser(s, v.Zone).Choose(it.Found()); why != "" {
			return why
		}
	}
	return queue.NotAsked
}

func (v view) presentCopy(c records.Copy) wire.Copy {
	holds, todo := v.why(c)
	if holds == nil {
		holds = []gate.Hold{}
	}
	if todo == "" {
		todo = c.Todo
	}
	part := ""
	if c.PartOf != 0 {
		part = c.Name
	}
	return wire.Copy{
		Part: part, Destination: c.Destination, Shelf: c.Shelf, Rule: c.Rule, State: string(v.Shown(c.State, c.Destination)),
		Tries:  c.Tries,
		Remote: c.Remote, SHA256: c.SHA256, SentTwice: c.SentTwice(), Bytes: c.Bytes, Reduced: c.Reduced, Proof: c.Proof,
		ProvenAt: records.FromMS(c.ProvenMS),
		Says:     c.Says, Todo: todo, Holds: holds, ChangedAt: records.FromMS(c.ChangedMS),
	}
}

// standings in words, in the order in which they are told.
var stands = []struct {
	state queue.State
	says  string
}{
	{queue.Safe, "safe at "}, {queue.Stuck, "stuck on its way to "}, {queue.Sending, "on its way to "}, {queue.Preparing,
		"about to go to "},
	{queue.Proving, "its proof is owed at "}, {queue.Waiting, "waits for "}, {queue.Skipped, "not sent to "},
}

// standsAt tells where an item stands, place by place: "Safe at shed, on its way
// to locker."
func standsAt(copies []wire.Copy) string {
	var parts []string
	at := map[string][]queue.State{} // of all files at a place together
	var order []string
	for _, c := range copies {
		if c.Shelf != plan.Main {
			continue
		}
		if at[c.Destination] == nil {
			order = append(order, c.Destination)
		}
		at[c.Destination] = append(at[c.Destination], queue.State(c.State))
	}
	for _, s := range stands {
		var there []string
		for _, place := range order {
			if queue.Together(at[place]) == s.state {
				there = append(there, place)
			}
		}
		if len(there) > 0 {
			parts = append(parts, s.says+words.And(there))
		}
	}
	if len(parts) == 0 {
		return ""
	}
	var small []string
	for _, c := range copies {
		if c.Shelf == plan.Small && queue.State(c.State) == queue.Safe {
			small = append(small, c.Destination)
		}
	}
	if len(small) > 0 {
		parts = append(parts, "safe in small at "+words.And(small))
	}
	says := strings.Join(parts, ", ")
	return strings.ToUpper(says[:1]) + says[1:] + "."
}
