// Package makingroom makes room on devices, as the keeper asks, and tells what went.
package makingroom

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"time"

	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/room"
	"yardtide/core/words"
	"yardtide/engine/link"
	"yardtide/engine/makeroom"
	"yardtide/engine/records"
	"yardtide/engine/tell"
	"yardtide/service/household"
	"yardtide/service/jobs"
	"yardtide/wire"
	"yardtide/wire/roomwire"
)

// Holder is a device as what makes room sees it.
type Holder interface {
	DeviceName() string
	Status(ctx context.Context) (wire.Device, error)
	MayGo(ctx context.Context, w room.Want, lately time.Time) (room.Choice, []room.Disk, error)
	Cleared(ctx context.Context) (tell.Cleared, error)
	ClearedFiles(ctx context.Context, held bool, below int64, limit int) ([]tell.ClearedFile, error)
	MakeRoom(ctx context.Context, o makeroom.Order) (makeroom.Result, error)
	TakeBack(ctx context.Context, items []int64) (int64, error)
}

// Options make a Room. All are needed.
type Options struct {
	InForce func() *plan.Plan
	Jobs    *jobs.Jobs
	Devices func() []Holder
	// HandsOver tells of a phone that runs nothing of ours: its inbox is freed by itself.
	HandsOver func(device string) bool
}

// Room makes room on devices. Its methods are safe for concurrent use.
type Room struct{ Options }

// Overview tells of room on every device.
func (r *Room) Overview(ctx context.Context) (roomwire.RoomOverview, error) {
	o := roomwire.RoomOverview{Devices: []roomwire.RoomOnDevice{}}
	for _, d := range r.Devices() {
		c, err := d.Cleared(ctx)
		if err != nil {
			return o, fmt.Errorf("asking %s what went: %w", d.DeviceName(), err)
		}
		one := roomwire.RoomOnDevice{Device: d.DeviceName(), Disks: disksOf(c.Disks),
			Standing: standing(r.InForce().Devices[d.DeviceName()].Room), By: r.cannot(d.DeviceName())}
		for _, s := range c.Sums {
			if s.State == records.RoomRemoved {
				one.Removed.N, one.Removed.Bytes = one.Removed.N+s.N, one.Removed.Bytes+s.Bytes
				continue
			}
			one.Held.N, one.Held.Bytes = one.Held.N+s.N, one.Held.Bytes+s.Bytes
			if until := time.UnixMilli(s.Until); one.Until.IsZero() || until.Before(one.Until) {
				one.Until = until
			}
		}
		o.Devices = append(o.Devices, one)
	}
	return o, nil
}

// cannot is why nothing can go from a device, "" where something can.
func (r *Room) cannot(device string) string {
	if r.HandsOver(device) {
		return device + " hands over: what may be deleted there it is told on its own page, and its inbox is freed by itself."
	}
	return ""
}

// standing tells what goes by itself.
func standing(m plan.Room) string {
	if !m.On() {
		return "Nothing goes by itself."
	}
	says := "What is proven at " + places(cmp.Or(m.Places, room.DefaultPlaces)) + " goes by itself"
	if m.Free > 0 {
		says += " until " + words.Bytes(int64(m.Free)) + " are free"
	}
	if m.Keep.Days > 0 {
		says += "; the last " + m.Keep.Days.String() + " stay"
	}
	if m.Keep.Small {
		says += "; a smaller picture of each stays"
	}
	return says + "."
}

func places(n int) string {
	if n == 1 {
		return "one place"
	}
	return fmt.Sprintf("%d places", n)
}

func disksOf(disks []room.Disk) []roomwire.RoomDisk {
	list := make([]roomwire.RoomDisk, len(disks))
	for i, d := range disks {
		list[i] = roomwire.RoomDisk{Free: d.Free, Total: d.Total, Held: d.Held, Sources: append([]string{}, d.Sources...)}
	}
	return list
}

// wanted is what is asked for, as the core has it.
func wanted(a roomwire.RoomAsked, now time.Time) room.Want {
	w := tell.WantOf(plan.Room{Free: plan.Size(a.Free), Keep: plan.Keep{Days: plan.Days(a.Keep), Small: a.Small}, Places: a.Places,
		Held: plan.Days(a.Held)}, now)
	w.Larger, w.Folder = a.Larger, a.Folder
	for _, k := range a.Kinds {
		w.Kinds = append(w.Kinds, media.Kind(k))
	}
	return w
}

// device finds one by its name.
func (r *Room) device(name string) (Holder, error) {
	for _, d := range r.Devices() {
		if d.DeviceName() == name {
			if says := r.cannot(name); says != "" {
				return nil, household.Refuse("%s", says[:len(says)-1])
			}
			return d, nil
		}
	}
	return nil, household.Refuse("there is no device %q", name)
}

// mostFolders is how many folders are told of.
const mostFolders = 12

// Plan tells what would go from a device; nothing is begun.
func (r *Room) Plan(ctx context.Context, a roomwire.RoomAsked) (roomwire.RoomPlan, error) {
	p, _, _, err := r.look(ctx, a)
	return p, err
}

func (r *Room) look(ctx context.Context, a roomwire.RoomAsked) (p roomwire.RoomPlan, c room.Choice, d Holder, err error) {
	if d, err = r.device(a.Device); err != nil {
		return p, c, nil, err
	}
	want := wanted(a, time.Now())
	c, disks, err := d.MayGo(ctx, want, time.Time{})
	if err != nil {
		return p, c, nil, fmt.Errorf("asking %s what may go: %w", a.Device, err)
	}
	p = roomwire.RoomPlan{Device: a.Device, N: c.Sum.N, Bytes: c.Sum.Bytes, Lacks: c.Need, Disks: disksOf(disks), Places: want.At(),
		Held: int(want.Held() / (24 * time.Hour)), Folders: []roomwire.RoomFolder{}, Kinds: []roomwire.RoomKind{}, Stays: []roomwire.RoomStays{}}
	if n := len(c.Goes); n > 0 {
		p.From, p.To = time.UnixMilli(c.Goes[0].TakenMS), time.UnixMilli(c.Goes[n-1].TakenMS)
	}
	folders, kinds := map[string]*roomwire.RoomFolder{}, map[media.Kind]*roomwire.RoomKind{}
	for _, it := range c.Goes {
		dir := path.Join(it.Source, it.Dir)
		if folders[dir] == nil {
			folders[dir] = &roomwire.RoomFolder{Folder: dir}
		}
		if kinds[it.Kind] == nil {
			kinds[it.Kind] = &roomwire.RoomKind{Kind: string(it.Kind)}
		}
		f, k := folders[dir], kinds[it.Kind]
		f.N, f.Bytes, k.N, k.Bytes = f.N+1, f.Bytes+it.Bytes, k.N+1, k.Bytes+it.Bytes
	}
	for _, f := range folders {
		p.Folders = append(p.Folders, *f)
	}
	slices.SortFunc(p.Folders, func(a, b roomwire.RoomFolder) int {
		return cmp.Or(cmp.Compare(b.Bytes, a.Bytes), cmp.Compare(a.Folder, b.Folder))
	})
	p.Folders = p.Folders[:min(len(p.Folders), mostFolders)]
	for _, kind := range media.Kinds {
		if k := kinds[kind]; k != nil {
			p.Kinds = append(p.Kinds, *k)
		}
	}
	for _, reason := range room.Reasons {
		if s := c.Stays[reason]; s.N > 0 {
			p.Stays = append(p.Stays, roomwire.RoomStays{Reason: string(reason), N: s.N, Bytes: s.Bytes, Says: staysSays(reason, s, want)})
		}
	}
	if p.Costs, err = r.costs(ctx, d); err != nil {
		return p, c, nil, err
	}
	p.Says, p.Problem = says(p, a), problem(p, a)
	return p, c, d, nil
}

// costs tells whether proofs would go over a network that may cost.
func (r *Room) costs(ctx context.Context, d Holder) (bool, error) {
	now := r.InForce()
	crosses := false
	for _, dest := range now.Destinations {
		crosses = crosses || dest.Networked()
	}
	if !crosses {
		return false, nil
	}
	st, err := d.Status(ctx)
	if err != nil {
		return false, fmt.Errorf("asking for the network of %s: %w", d.DeviceName(), err)
	}
	return st.Conditions.MayCost(), nil
}

func staysSays(r room.Reason, s room.Amount, w room.Want) string {
	n := words.Things(s.N)
	switch r {
	case room.NotWanted:
		return n + ": not asked for (kind, folder or size)."
	case room.TooNew:
		return n + ": taken in the days that stay."
	case room.BackAgain:
		return n + ": brought back lately."
	case room.ItsFolder:
		return n + ": on a card, in a closed library or not looked at yet; nothing is removed there."
	case room.NotSafe:
		return n + ": not safe yet."
	case room.FewPlaces:
		return fmt.Sprintf("%s: safe, but not at %s.", n, places(w.At()))
	case room.NotAsShot:
		return n + ": no place has all of it as shot."
	}
	return n + ": could go; enough is free without."
}

func says(p roomwire.RoomPlan, a roomwire.RoomAsked) string {
	if p.N == 0 {
		return "Nothing would go."
	}
	s := fmt.Sprintf("%s, %s, would go: each is proven again at that moment, lies in the holding place for %s, is proven once more and then removed.",
		words.Things(p.N), words.Bytes(p.Bytes), plan.Days(p.Held))
	if a.Small {
		s += " A smaller picture stays in the place of each."
	}
	if p.Lacks > 0 {
		s += fmt.Sprintf(" %s more would be needed for what you asked.", words.Bytes(p.Lacks))
	}
	return s
}

func problem(p roomwire.RoomPlan, a roomwire.RoomAsked) string {
	switch {
	case p.N == 0 && len(p.Stays) > 0:
		return "Nothing may go; what stays says why."
	case p.N == 0:
		return "Nothing is known on " + p.Device + " that may go."
	case p.Costs && !a.Metered:
		return "What goes is proven first, over a network that may cost: say that it may (-metered), or wait for another."
	}
	return ""
}

// Begin begins to make room on a device.
func (r *Room) Begin(ctx context.Context, a roomwire.RoomAsked) (wire.Job, error) {
	p, c, d, err := r.look(ctx, a)
	if err != nil {
		return wire.Job{}, err
	}
	if p.Problem != "" {
		return wire.Job{}, household.Refuse("%s", p.Problem[:len(p.Problem)-1])
	}
	terms := makeroom.TermsOf(wanted(a, time.Now()))
	terms.Metered = a.Metered
	ids := make([]int64, len(c.Goes))
	for i, it := range c.Goes {
		ids[i] = it.ID
	}
	return r.Jobs.Begin(wire.Job{Kind: wire.JobRoom, Says: "It begins.", Of: int64(len(ids)), Room: &roomwire.RoomMade{Says: []string{}}}, true,
		func(ctx context.Context, tell func(func(*wire.Job))) error { return run(ctx, d, ids, terms, tell) })
}

const (
	// orderSize is how many items are ordered at once.
	orderSize = 100
	// patience is how often in a row an order may go unanswered before it fails.
	patience = 10
	// mostSaid is how many of those that stayed are told one by one.
	mostSaid = 20
)

// run orders items to go, some at once, until all were looked at.
func run(ctx context.Context, d Holder, ids []int64, terms makeroom.Terms, tell func(func(*wire.Job))) error {
	for unanswered := 0; len(ids) > 0; {
		some := ids[:min(len(ids), orderSize)]
		result, err := d.MakeRoom(ctx, makeroom.Order{Items: some, Terms: terms})
		var silent link.Silent
		switch {
		case ctx.Err() != nil:
			return context.Cause(ctx)
		case errors.As(err, &silent) && unanswered < patience: // it may have done some: what went is looked at again, and stays
			unanswered++
			select {
			case <-ctx.Done():
				return context.Cause(ctx)
			case <-time.After(time.Second):
			}
			continue
		case err != nil:
			return err
		}
		unanswered = 0
		ids = append(slices.Clone(result.Left), ids[len(some):]...)
		tell(func(is *wire.Job) { count(is, result) })
	}
	tell(func(is *wire.Job) { is.Says = madeSays(*is.Room, terms) })
	return nil
}

// count counts what came of an order.
func count(is *wire.Job, result makeroom.Result) {
	now := *is.Room
	now.N, now.Bytes, now.Stayed = now.N+result.N, now.Bytes+result.Bytes, now.Stayed+int64(len(result.Stays))
	is.Done += result.N + int64(len(result.Stays))
	now.Says = slices.Clone(now.Says)
	for _, s := range result.Stays {
		if len(now.Says) < mostSaid && !slices.Contains(now.Says, s.Says) {
			now.Says = append(now.Says, s.Says)
		}
	}
	is.Room, is.Says = &now, fmt.Sprintf("%s, %s, in the holding place.", words.Things(now.N), words.Bytes(now.Bytes))
}

func madeSays(m roomwire.RoomMade, t makeroom.Terms) string {
	says := fmt.Sprintf("%s, %s, in the holding place for %s", words.Things(m.N), words.Bytes(m.Bytes), plan.Days(t.Held/(24*time.Hour)))
	if m.Stayed > 0 {
		says += fmt.Sprintf("; %s stayed", words.Count(m.Stayed))
	}
	return says + "."
}

// TakeBack puts items from the holding place of a device back: these, by their numbers, or all with none.
func (r *Room) TakeBack(ctx context.Context, device string, items []int64) (roomwire.RoomBack, error) {
	d, err := r.device(device)
	if err != nil {
		return roomwire.RoomBack{}, err
	}
	n, err := d.TakeBack(ctx, items)
	var stays makeroom.Stays
	if errors.As(err, &stays) && n == 0 {
		return roomwire.RoomBack{}, household.Refuse("%s", stays.Says[:len(stays.Says)-1])
	}
	return roomwire.RoomBack{N: n}, err
}

// Ledger lists what went from a device, the newest first, below a number; with held, what is in the holding place alone.
func (r *Room) Ledger(ctx context.Context, device string, held bool, below int64, limit int) (roomwire.RoomLedger, error) {
	l := roomwire.RoomLedger{Files: []roomwire.RoomFile{}}
	d, err := r.device(device)
	if err != nil {
		return l, err
	}
	rows, err := d.ClearedFiles(ctx, held, below, limit)
	if err != nil {
		return l, fmt.Errorf("asking %s what went: %w", device, err)
	}
	for _, row := range rows {
		f, err := fileOf(device, row)
		if err != nil {
			return l, err
		}
		l.Files = append(l.Files, f)
	}
	if len(rows) == limit {
		l.Below = rows[len(rows)-1].ID
	}
	return l, nil
}

func fileOf(device string, row tell.ClearedFile) (roomwire.RoomFile, error) {
	at := records.FromMS
	f := roomwire.RoomFile{ID: row.ID, Device: device, Key: row.Key, Path: path.Join(row.Source, row.Path), Bytes: row.Size, SHA256: row.SHA256,
		State: string(row.State), Since: at(row.HeldMS), Until: at(row.UntilMS), Removed: at(row.RemovedMS), Back: at(row.BackMS),
		HeldAs: path.Join(row.Source, row.HeldAs), Says: row.Says, Proofs: []roomwire.RoomProof{}}
	if row.Small != "" {
		f.Small = path.Join(row.Source, row.Small)
	}
	proofs, err := row.ProofList()
	if err != nil {
		return f, err
	}
	for _, p := range proofs {
		f.Proofs = append(f.Proofs, roomwire.RoomProof{Destination: p.Destination, Path: p.Path, Way: p.Way, At: at(p.AtMS), AsShot: p.AsShot})
	}
	return f, nil
}
