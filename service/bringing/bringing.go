// Package bringing brings items back from places to the devices of this process, as a job that the keeper starts.
package bringing

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"yardtide/core/plan"
	"yardtide/core/search"
	"yardtide/core/words"
	"yardtide/engine/bringback"
	"yardtide/engine/destination"
	"yardtide/engine/link"
	"yardtide/engine/tell"
	"yardtide/service/household"
	"yardtide/service/jobs"
	"yardtide/wire"
	"yardtide/wire/bringwire"
)

// Holder is a device as what brings back sees it.
type Holder interface {
	DeviceName() string
	Lying(ctx context.Context, ids []int64) ([]tell.Lying, error)
	Status(ctx context.Context) (wire.Device, error)
	// Bring brings the files of an item back to the device, for a while.
	Bring(ctx context.Context, o bringback.Order) (bringback.Result, error)
}

// Options make a Bringing. All are needed.
type Options struct {
	InForce func() *plan.Plan // the plan
	Jobs    *jobs.Jobs
	Devices func() []Holder
	// HandsOver tells of a phone that runs nothing of ours: nothing can be brought to it.
	HandsOver func(device string) bool
	Driver    func(destination string) (destination.Driver, error)
	// Free tells how many bytes are free where a folder of this computer lies, -1 where nobody knows.
	Free func(folder string) int64
	// Costs tells whether the network of this computer may cost.
	Costs func(ctx context.Context) (bool, error)
}

// Bringing brings items back. Its methods are safe for concurrent use.
type Bringing struct{ Options }

// New makes one.
func New(o Options) *Bringing { return &Bringing{o} }

// atOnce is how many items come back at once.
const atOnce = 4

// toBring is an item that is to be brought back.
type toBring struct {
	device string
	to     Holder // nil for this computer
	order  bringback.Order
	here   bool // it is on its device, as far as is known, and goes to its own place
	tell.Lying
}

// where is where it goes, for people.
func (t toBring) where() string {
	if t.to == nil {
		return t.order.Folder
	}
	return t.to.DeviceName() + ": " + cmp.Or(t.order.Folder, t.order.Source)
}

// Plan tells what bringing items back would take.
func (b *Bringing) Plan(ctx context.Context, refs []search.Ref, asked bringwire.BringAsked) (bringwire.BringPlan, error) {
	p, _, err := b.look(ctx, refs, asked)
	return p, err
}

// Begin begins to bring items back.
func (b *Bringing) Begin(ctx context.Context, refs []search.Ref, asked bringwire.BringAsked) (wire.Job, error) {
	p, items, err := b.look(ctx, refs, asked)
	if err != nil {
		return wire.Job{}, err
	}
	if p.Problem != "" {
		return wire.Job{}, household.Refuse("%s", strings.TrimSuffix(p.Problem, "."))
	}
	return b.Jobs.Begin(wire.Job{Kind: wire.JobBringBack, Says: "It begins.", Of: int64(len(items)), Back: &bringwire.BroughtBack{Says: []string{}}}, true,
		func(ctx context.Context, tell func(func(*wire.Job))) error { return b.run(ctx, items, tell) })
}

// look finds where items lie and where they go.
func (b *Bringing) look(ctx context.Context, refs []search.Ref, asked bringwire.BringAsked) (p bringwire.BringPlan, items []toBring, err error) {
	p = bringwire.BringPlan{To: []string{}, From: []bringwire.BringFrom{}, Free: -1}
	if len(refs) == 0 {
		return p, nil, household.Refuse("nothing like this is known; yardtide find tells what is")
	}
	if items, err = b.lying(ctx, refs, asked); err != nil {
		return p, nil, err
	}
	of, folders := map[string]*bringwire.BringFrom{}, map[string]bool{}
	for i := range items {
		it := &items[i]
		p.N++
		b.Nearest(it.Files)
		folders[it.where()] = true
		switch {
		case it.here:
			p.Here++
			continue
		case !whole(it.Files):
			p.Nowhere++
			continue
		case it.Files[0].Copies[0].Reduced:
			p.Reduced++
		}
		for _, f := range it.Files {
			if len(f.Copies) == 0 {
				continue
			}
			c := f.Copies[0]
			from := of[c.Destination]
			if from == nil {
				from = &bringwire.BringFrom{Destination: c.Destination, Network: b.kind(c.Destination) != plan.Folder}
				of[c.Destination] = from
			}
			from.N, from.Bytes = from.N+1, from.Bytes+c.Bytes
			p.Bytes += c.Bytes
		}
	}
	p.To = slices.Sorted(maps.Keys(folders))
	for _, name := range slices.Sorted(maps.Keys(of)) {
		p.From = append(p.From, *of[name])
	}
	if filepath.IsAbs(asked.Folder) {
		at := asked.Folder
		for _, err := os.Stat(at); errors.Is(err, fs.ErrNotExist) && at != filepath.Dir(at); _, err = os.Stat(at) {
			at = filepath.Dir(at) // it is made there
		}
		p.Free = b.Free(at)
	}
	if err := b.costs(ctx, asked, items, &p); err != nil {
		return p, nil, err
	}
	p.Says, p.Problem = says(p), problem(p, asked)
	return p, items, nil
}

// kind is that of a destination.
func (b *Bringing) kind(name string) plan.DestinationKind { return b.InForce().Destinations[name].Kind }

// lying asks each device where its items lie.
func (b *Bringing) lying(ctx context.Context, refs []search.Ref, asked bringwire.BringAsked) (items []toBring, err error) {
	of := map[string][]int64{}
	for _, ref := range refs {
		of[ref.Device] = append(of[ref.Device], ref.ID)
	}
	devices := b.Devices()
	for _, d := range devices {
		ids := of[d.DeviceName()]
		if len(ids) == 0 {
			continue
		}
		for some := range slices.Chunk(ids, 500) {
			list, err := d.Lying(ctx, some)
			if err != nil {
				return nil, fmt.Errorf("asking where items of %s lie: %w", d.DeviceName(), err)
			}
			for _, l := range list {
				it := toBring{device: d.DeviceName(), Lying: l}
				if it.to, it.order, err = b.target(devices, d, l.Source, asked, len(of) > 1); err != nil {
					return nil, err
				}
				if it.here = it.order.Source != "" && !l.Gone; it.here {
					it.Files[0].Size = l.Size
				}
				items = append(items, it)
			}
		}
	}
	return items, nil
}

// target is where the files of a source go: to a device, or with nil into a folder of this computer.
func (b *Bringing) target(devices []Holder, d Holder, source string, asked bringwire.BringAsked, several bool) (to Holder, o bringback.Order, err error) {
	name := cmp.Or(asked.Device, d.DeviceName())
	if asked.Device == "" && asked.Folder != "" {
		if !filepath.IsAbs(asked.Folder) {
			return nil, o, household.Refuse("the folder %q is none of this computer: write all of its path, or name the device that it is of (-on)", asked.Folder)
		}
		o.Folder = below(asked.Folder, d.DeviceName(), source, several)
		return nil, o, nil
	}
	if b.HandsOver(name) {
		return nil, o, household.Refuse("%s hands over, and nothing can be put on it from here: name a folder (-into)", name)
	}
	i := slices.IndexFunc(devices, func(d Holder) bool { return d.DeviceName() == name })
	if i < 0 {
		return nil, o, household.Refuse("there is no device %q", name)
	}
	if asked.Folder == "" {
		if name != d.DeviceName() {
			return nil, o, household.Refuse("name the folder of %s that they go to (-into)", name)
		}
		return devices[i], bringback.Order{Source: source}, nil
	}
	if !filepath.IsLocal(filepath.FromSlash(asked.Folder)) {
		return nil, o, household.Refuse("%q is no folder below that of %s", asked.Folder, name)
	}
	o.Folder = filepath.ToSlash(below(asked.Folder, d.DeviceName(), source, several))
	return devices[i], o, nil
}

// below is the folder of a source below one that has what several devices had, or one.
func below(folder, device, source string, several bool) string {
	if filepath.IsAbs(source) { // of a source outside of its device's own folder, its last step
		source = filepath.Base(source)
	}
	if _, rest, found := strings.Cut(source, ":"); found { // of a volume
		_, source, _ = strings.Cut(rest, "/")
	}
	source = strings.TrimPrefix(source, "~/")
	if several {
		return filepath.Join(folder, device, filepath.FromSlash(source))
	}
	return filepath.Join(folder, filepath.FromSlash(source))
}

// Nearest orders the copies of files: as shot first, and of these what is on this computer's own disks.
func (b *Bringing) Nearest(files []bringback.Wanted) {
	for _, f := range files {
		slices.SortStableFunc(f.Copies, func(x, y bringback.At) int {
			far := func(c bringback.At) int {
				n := 0
				if c.Reduced {
					n += 2
				}
				if b.kind(c.Destination) != plan.Folder {
					n++
				}
				return n
			}
			return cmp.Compare(far(x), far(y))
		})
	}
}

// whole tells that the main file lies somewhere. A part that no rule took along lies nowhere.
func whole(files []bringback.Wanted) bool { return len(files) > 0 && len(files[0].Copies) > 0 }

// costs tells whether what comes over the network may cost where it goes to.
func (b *Bringing) costs(ctx context.Context, asked bringwire.BringAsked, items []toBring, p *bringwire.BringPlan) error {
	if !slices.ContainsFunc(p.From, func(f bringwire.BringFrom) bool { return f.Network }) {
		return nil
	}
	asks := map[string]Holder{}
	for _, it := range items {
		if it.to != nil {
			asks[it.to.DeviceName()] = it.to
		}
	}
	for name, d := range asks {
		st, err := d.Status(ctx)
		if err != nil {
			return fmt.Errorf("asking for the network of %s: %w", name, err)
		}
		p.Costs = p.Costs || st.Conditions.MayCost()
	}
	if filepath.IsAbs(asked.Folder) {
		costs, err := b.Costs(ctx)
		if err != nil {
			return err
		}
		p.Costs = p.Costs || costs
	}
	return nil
}

func says(p bringwire.BringPlan) string {
	n := p.N - p.Here - p.Nowhere
	says := "Nothing would come"
	if n > 0 {
		says = fmt.Sprintf("%s, %s, would come", words.Things(n), words.Bytes(p.Bytes))
	}
	var from []string
	for _, f := range p.From {
		from = append(from, f.Destination)
	}
	if len(from) > 0 {
		says += " from " + words.And(from)
	}
	says += "."
	if p.Here > 0 {
		says += " " + words.Count(p.Here) + " are on their device, as far as is known: what is missing there comes as well."
	}
	if p.Reduced > 0 {
		says += fmt.Sprintf(" Of %s only a smaller copy is anywhere: its name says so.", words.Count(p.Reduced))
	}
	if p.Nowhere > 0 {
		says += fmt.Sprintf(" %s are safe nowhere, and cannot come.", words.Count(p.Nowhere))
	}
	return says
}

func problem(p bringwire.BringPlan, asked bringwire.BringAsked) string {
	switch {
	case p.N == p.Nowhere:
		return "None of it is safe anywhere: there is nothing to bring it back from."
	case p.Free >= 0 && p.Bytes > p.Free:
		return fmt.Sprintf("There is no room: %s would come, and %s are free at %s.", words.Bytes(p.Bytes), words.Bytes(p.Free), p.To[0])
	case p.Costs && !asked.Metered:
		return "Some of it would come over a network that may cost: say that it may (-metered), or wait for another."
	}
	return ""
}

// run brings items back, some at once, and tells how far it is.
func (b *Bringing) run(ctx context.Context, items []toBring, tell func(func(*wire.Job))) error {
	line := make(chan toBring)
	var all sync.WaitGroup
	for range atOnce {
		all.Go(func() {
			for it := range line {
				list, err := b.one(ctx, it, func(n int64) { tell(func(is *wire.Job) { back(is).Bytes += n }) })
				if ctx.Err() == nil {
					tell(func(is *wire.Job) { count(is, it, list, err) })
				}
			}
		})
	}
	for _, it := range items {
		if !whole(it.Files) {
			tell(func(is *wire.Job) { is.Done, back(is).Nowhere = is.Done+1, is.Back.Nowhere+1 })
			continue
		}
		select {
		case line <- it:
		case <-ctx.Done():
		}
	}
	close(line)
	all.Wait()
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	var failed int64
	tell(func(is *wire.Job) { failed, is.Says = is.Back.Failed, broughtSays(*is.Back) })
	if failed > 0 {
		return errors.New(strings.TrimSuffix(broughtFailed(failed), "."))
	}
	return nil
}

func broughtFailed(n int64) string {
	if n == 1 {
		return "one could not be brought back; what is said of it tells why."
	}
	return words.Count(n) + " could not be brought back; what is said of them tells why."
}

// patience is how often in a row an order may bring nothing, or go unanswered, before it fails.
const patience = 10

// one brings one item back, turn by turn.
func (b *Bringing) one(ctx context.Context, it toBring, came func(int64)) ([]bringback.Brought, error) {
	o := it.order
	o.Files = slices.DeleteFunc(slices.Clone(it.Files), func(f bringback.Wanted) bool { return len(f.Copies) == 0 })
	for idle := 0; ; {
		var r bringback.Result
		var err error
		if it.to == nil {
			r, err = bringback.Carry(ctx, o.Folder, o.Files, b.Driver)
		} else {
			r, err = it.to.Bring(ctx, o)
		}
		came(r.Came)
		if !r.More && (err == nil || !unanswered(err)) {
			return r.Brought, err
		}
		if idle++; r.Came > 0 {
			idle = 0
		}
		if idle >= patience {
			return nil, cmp.Or(err, errors.New(it.Files[0].Path+": nothing comes"))
		}
		select {
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		case <-time.After(time.Second):
		}
	}
}

// unanswered tells that a device did not answer, and may have done what was ordered: it is ordered again.
func unanswered(err error) bool {
	var silent link.Silent
	return errors.As(err, &silent)
}

// back is what came so far, to be changed: what was told of it stays as it was.
func back(is *wire.Job) *bringwire.BroughtBack {
	now := *is.Back
	is.Back = &now
	return is.Back
}

// mostSaid is how many failures are told one by one.
const mostSaid = 20

// count counts one item that was brought back, or was not.
func count(is *wire.Job, it toBring, list []bringback.Brought, err error) {
	is.Done++
	back := back(is)
	note := func(says string) {
		if len(back.Says) < mostSaid {
			back.Says = append(slices.Clone(back.Says), says)
		}
	}
	if err != nil {
		back.Failed++
		note(it.device + ": " + destination.Sentence(err))
		return
	}
	back.N++
	had, reduced, beside := true, false, false
	for i, one := range list {
		had = had && one.Had
		reduced = reduced || one.From.Reduced
		beside = beside || !one.From.Reduced && one.Path != it.Files[min(i, len(it.Files)-1)].Path
		for _, f := range one.Failed {
			note(fmt.Sprintf("%s: %s at %s: %s It came from another place.", it.device, one.Path, f.Copy.Destination, f.Says))
		}
	}
	back.Had += oneIf(had)
	back.Reduced += oneIf(reduced)
	back.Beside += oneIf(beside)
	is.Says = broughtSays(*back)
}

func oneIf(is bool) int64 {
	if is {
		return 1
	}
	return 0
}

func broughtSays(b bringwire.BroughtBack) string {
	says := fmt.Sprintf("%s there, %s came", words.Things(b.N), words.Bytes(b.Bytes))
	for _, more := range []struct {
		n    int64
		says string
	}{{b.Had, "%s were there already"}, {b.Beside, "%s have another name, as something else has theirs"},
		{b.Reduced, "%s are smaller copies, and are called so"}, {b.Nowhere, "%s are safe nowhere: they lie on their device alone, or are lost"}, {b.Failed, "%s failed"}} {
		if more.n > 0 {
			says += "; " + fmt.Sprintf(more.says, words.Count(more.n))
		}
	}
	return says + "."
}
