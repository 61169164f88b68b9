package device

import (
	"bytes"
	"context"
	"errors"
	"os"
	"path"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"yardtide/core/gate"
	"yardtide/core/onvolume"
	"yardtide/core/plan"
	"yardtide/core/room"
	"yardtide/engine/destination"
	"yardtide/engine/destination/folder"
	"yardtide/engine/face"
	"yardtide/engine/makeroom"
	"yardtide/engine/records"
	"yardtide/engine/rendition"
	"yardtide/engine/scan"
	"yardtide/engine/tell"
)

// This file makes room on the device: by itself where the plan says so, and when the keeper orders it.

// rooms has room made.
type rooms struct {
	d     *Device
	maker *makeroom.Maker

	mu     sync.Mutex
	mended bool                // what a kill left was seen to
	due    time.Time           // when the holding places are seen to again
	tried  map[int64]time.Time // items that stayed, and until when they are not tried again
	known  []room.Disk
	backed map[string]time.Time // files that were put back a moment ago, by source and path
	looked time.Time            // at the disks
}

const (
	tidyEvery = 10 * time.Minute
	// tryAgain is how long an item that stayed is let be by the standing rule.
	tryAgain = time.Hour
	// roomStep is how many items go by themselves before the disks are looked at again.
	roomStep = 100
	// diskEvery is how often the disks are looked at.
	diskEvery = 5 * time.Minute
	// provenAtOnce is how many items are proven at once.
	provenAtOnce = 4
)

// newRoomMaker makes what moves files for a device.
func newRoomMaker(d *Device) *makeroom.Maker {
	return makeroom.New(makeroom.Options{
		Device: d.Name, Records: d.Records, Folder: d.Folder, Away: d.sources.away, Log: d.Log, Changed: d.changed,
		Stays: func(source string) bool { return d.rooms.staysBy(source) },
		Asked: func(it records.Item) []string {
			p := d.currentPlan()
			var asked []string
			for name := range p.Destinations {
				if p.Wants(d.Name, it.Source, it.Found(), name, plan.Main) {
					asked = append(asked, name)
				}
			}
			return asked
		},
		Place: func(name string) string {
			if !d.places.Counts(name) {
				return ""
			}
			id, _ := d.places.Stands(name)
			return id
		},
		Prove: func(ctx context.Context, c records.Copy, metered bool) (string, error) {
			return d.rooms.prove(ctx, c, metered)
		},
		Small: func(ctx context.Context, it records.Item) ([]byte, string, error) { return d.rooms.small(ctx, it) },
		Gone: func(ctx context.Context, source, dir string, names []string) error {
			return d.Records.Catalogue.Gone(ctx, source, dir, names, d.currentPlan(), time.Now())
		},
		Back: func(ctx context.Context, items []records.Item) error {
			d.rooms.noteBack(items)
			return d.Records.Catalogue.Return(ctx, items, d.currentPlan(), time.Now())
		},
	})
}

// stays tells whether nothing is removed from a source: a card, a closed library, an inbox.
func (r *rooms) stays(s plan.Source) bool {
	_, _, comes := onvolume.Of(s.Folder)
	return comes || len(s.OriginalsOnly) > 0 || r.d.Scan.MayEmpty
}

// staysBy tells the same of a source by its folder; one that the plan does not have stays as it is, too.
func (r *rooms) staysBy(source string) bool {
	for _, s := range r.d.currentPlan().Devices[r.d.Name].Sources {
		if s.Folder == source {
			return r.stays(s)
		}
	}
	return true
}

// errCosts tells that a proof would be taken over a network that may cost.
var errCosts = errors.New("the network may cost")

// errPaused tells that everything is paused.
var errPaused = errors.New("everything is paused")

// prove takes the proof of a copy at this moment.
func (r *rooms) prove(ctx context.Context, c records.Copy, metered bool) (string, error) {
	s := r.d.outlook()
	switch {
	case s.Costs(c.Destination) && !metered:
		return "", errCosts
	case s.Pause.Active(time.Now()):
		return "", errPaused
	}
	way, err := r.d.upkeep.ProveNow(ctx, c)
	if err == nil && way == "" {
		err = makeroom.ErrUnproven
	}
	return way, err
}

// smallForm is the form of the smaller ones that stay.
var smallForm = plan.Rendition{LongEdge: 1600, Format: plan.JPEG}

// small makes the smaller one of an item: a picture, or a face of what has no other.
func (r *rooms) small(ctx context.Context, it records.Item) ([]byte, string, error) {
	var made bytes.Buffer
	var form rendition.Made
	err := r.d.Shows.WithPicture(ctx, it, func(src rendition.Source) (err error) {
		form, err = rendition.Reduce(ctx, src, smallForm, &made)
		return err
	})
	if err == nil && form.ContentType == "image/jpeg" {
		return made.Bytes(), ".jpg", nil
	}
	if ctx.Err() != nil {
		return nil, "", context.Cause(ctx)
	}
	for n := 0; ; n++ { // it is within the limits, or no picture: its face
		shown, err := r.d.Shows.Face(ctx, r.d.Records.Catalogue.Key(it.ID))
		if !errors.Is(err, face.ErrBusy) || n == facePatience {
			return shown, ".jpg", err
		}
		select {
		case <-ctx.Done():
			return nil, "", context.Cause(ctx)
		case <-time.After(time.Second / 5):
		}
	}
}

// facePatience is how often a face is asked for that is being made, five times a second.
const facePatience = 150

// anew has the next round see to everything: another plan may want other things to go.
func (r *rooms) anew() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.due, r.looked, r.tried = time.Time{}, time.Time{}, nil
}

// backFor is for how long a walk that began before may miss a file that was put back.
const backFor = 10 * time.Minute

// noteBack notes files that were put back just now.
func (r *rooms) noteBack(items []records.Item) {
	r.mu.Lock()
	defer r.mu.Unlock()
	now := time.Now()
	for file, at := range r.backed {
		if now.Sub(at) > backFor {
			delete(r.backed, file)
		}
	}
	if r.backed == nil {
		r.backed = map[string]time.Time{}
	}
	for _, it := range items {
		r.backed[it.FullPath()] = now
	}
}

// isBack tells whether a file that a walk misses was put back while it was on its way.
func (r *rooms) isBack(source, name string) bool {
	r.mu.Lock()
	_, was := r.backed[path.Join(source, name)]
	r.mu.Unlock()
	if !was {
		return false
	}
	info, err := os.Lstat(filepath.Join(r.d.Folder(source), filepath.FromSlash(name)))
	return err == nil && info.Mode().IsRegular()
}

// disks are those on which sources lie, as they were a moment ago.
func (r *rooms) disks() []room.Disk {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.known
}

// look looks at the disks on which sources lie.
func (r *rooms) look(ctx context.Context) {
	p := r.d.currentPlan()
	var list []room.Disk
	at := map[uint64]int{}
	for _, s := range p.Devices[r.d.Name].Sources {
		if r.d.sources.walking(s.Folder) || r.d.sources.away(s.Folder) {
			continue
		}
		lies := r.d.Folder(s.Folder)
		info, err := os.Stat(lies)
		if err != nil {
			continue
		}
		disk := scan.Disk(info)
		i, known := at[disk]
		if !known || disk == 0 {
			i = len(list)
			at[disk] = i
			space, err := folder.New(lies).Space(ctx)
			if err != nil {
				space = destination.Space{Free: -1, Used: -1}
			}
			total := int64(-1)
			if space.Free >= 0 && space.Used >= 0 {
				total = space.Free + space.Used
			}
			list = append(list, room.Disk{Free: space.Free, Total: total})
		}
		list[i].Sources = append(list[i].Sources, s.Folder)
	}
	r.mu.Lock()
	changed := !slices.EqualFunc(r.known, list, func(a, b room.Disk) bool {
		return a.Free == b.Free && a.Total == b.Total && slices.Equal(a.Sources, b.Sources)
	})
	r.known, r.looked = list, time.Now()
	r.mu.Unlock()
	if changed {
		r.d.Changed()
	}
}

// tidy has the holding places and the disks seen to, and the standing rule followed, beside everything else, when that is
// due. It returns when it is due next.
func (r *rooms) tidy(ctx context.Context, s gate.Situation) time.Time {
	r.mu.Lock()
	due := r.due
	if look := r.looked.Add(diskEvery); look.Before(due) {
		due = look
	}
	r.mu.Unlock()
	switch {
	case s.Time.Before(due):
		return due
	case r.d.sources.looking(s.Plan):
		return s.Time.Add(time.Second)
	}
	r.d.beside.Begin("make room", func() {
		if err := r.all(ctx, s); err != nil && ctx.Err() == nil {
			r.d.mending.broke("room could not be made", err)
		}
	})
	return time.Time{} // its end rings
}

func (r *rooms) all(ctx context.Context, s gate.Situation) error {
	r.look(ctx)
	r.mu.Lock()
	mended, due, before := r.mended, !s.Time.Before(r.due), r.due
	r.mu.Unlock()
	if !mended {
		if err := r.maker.Mend(ctx); err != nil {
			return err
		}
	}
	if !due {
		return nil
	}
	if err := r.maker.Tidy(ctx, time.Now()); err != nil {
		return err
	}
	next, err := r.d.Records.Rooms.NextDue(ctx)
	if err != nil {
		return err
	}
	wait := time.Now().Add(tidyEvery)
	if !next.IsZero() && next.Before(wait) && next.After(time.Now()) {
		wait = next
	}
	more, err := r.byPlan(ctx, s)
	if more {
		wait = time.Time{}
	}
	r.mu.Lock()
	if r.mended = true; r.due.Equal(before) && s.Plan == r.d.currentPlan() { // else a new plan came meanwhile
		r.due = wait
	}
	r.mu.Unlock()
	return err
}

// byPlan has go what the plan wants to go. More tells that there is more that may.
func (r *rooms) byPlan(ctx context.Context, s gate.Situation) (more bool, err error) {
	rule := s.Plan.Devices[r.d.Name].Room
	if !rule.On() || s.Pause.Active(s.Time) || r.d.isSending() {
		return false, nil
	}
	want := tell.WantOf(rule, time.Now())
	c, _, err := r.d.Told.MayGo(ctx, want, tell.Lately(rule, time.Now()))
	if err != nil {
		return false, err
	}
	terms := makeroom.TermsOf(want)
	n := 0
	for _, it := range c.Goes {
		if ctx.Err() != nil || n == roomStep {
			break
		}
		if r.isTried(it.ID) {
			continue
		}
		n++
		if _, err := r.maker.Clear(ctx, it.ID, terms, time.Now()); err != nil && ctx.Err() == nil {
			r.try(it.ID)
			r.d.Log.Info("an item stays on the device", "device", r.d.Name, "item", it.ID, "err", err)
		}
	}
	return n == roomStep, context.Cause(ctx)
}

func (r *rooms) isTried(id int64) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	until, was := r.tried[id]
	return was && time.Now().Before(until)
}

func (r *rooms) try(id int64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	now := time.Now()
	if r.tried == nil {
		r.tried = map[int64]time.Time{}
	}
	for id, until := range r.tried {
		if now.After(until) {
			delete(r.tried, id)
		}
	}
	r.tried[id] = now.Add(r.d.Wait(tryAgain))
}

// MakeRoom has items go into the holding place, for a turn: those that may.
func (o Orders) MakeRoom(ctx context.Context, order makeroom.Order) (result makeroom.Result, err error) {
	if err := order.Check(); err != nil {
		return result, err
	}
	turn, cancel := context.WithTimeout(ctx, makeroom.Turn)
	defer cancel()
	var mu sync.Mutex
	all, ctx := errgroup.WithContext(ctx)
	all.SetLimit(provenAtOnce)
	for _, id := range order.Items {
		if turn.Err() != nil {
			result.Left = append(result.Left, id)
			continue
		}
		all.Go(func() error {
			bytes, err := o.d.rooms.maker.Clear(ctx, id, order.Terms, time.Now())
			if ctx.Err() != nil {
				return context.Cause(ctx)
			}
			mu.Lock()
			defer mu.Unlock()
			if err != nil {
				result.Stays = append(result.Stays, makeroom.Stayed{Item: id, Says: destination.Sentence(err)})
				return nil
			}
			result.N, result.Bytes = result.N+1, result.Bytes+bytes
			return nil
		})
	}
	err = all.Wait()
	o.d.changed()
	return result, err
}

// TakeBack puts items from the holding place back where they lay, by the numbers of their main files; all with none.
func (o Orders) TakeBack(ctx context.Context, items []int64) (int64, error) {
	n, err := o.d.rooms.maker.TakeBack(ctx, items, time.Now())
	o.d.changed()
	return n, err
}
