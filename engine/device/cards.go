package device

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"yardtide/core/gate"
	"yardtide/core/onvolume"
	"yardtide/core/plan"
	"yardtide/core/words"
	"yardtide/engine/card"
	"yardtide/engine/destination"
	"yardtide/engine/destination/folder"
	"yardtide/engine/records"
	"yardtide/engine/volume"
	"yardtide/wire/cardwire"
)

// This file follows the cards, cameras and phones on a cable that come to the device: each is told by its own identity,
// surveyed once, and treated as the keeper answered.

// cards are the volumes with a camera's folders.
type cards struct {
	d *Device

	mu   sync.Mutex
	here map[string]*onCard       // by identity
	back map[string]chan struct{} // closed when a volume goes
	came chan struct{}            // closed when one comes
}

func newCards(d *Device) *cards {
	return &cards{d: d, here: map[string]*onCard{}, back: map[string]chan struct{}{}, came: make(chan struct{})}
}

// onCard is what is known of one volume that is here.
type onCard struct {
	volume.Volume
	survey   *card.Survey // nil while it is surveyed
	done, of int64        // files that are copied, and that are to be
	copied   bool         // everything that is new is copied and was compared
	checked  time.Time    // when it was listed last since
	failed   string
	retry    time.Time // after it failed
}

const (
	surveyTime = 10 * time.Minute
	cardsAgain = 30 * time.Second // folders may be made on one that was mounted without
	cardAgain  = 30 * time.Second // after a copy failed
	cardListed = 5 * time.Second  // how often one that is done is listed again: something may be put on it
)

// follow follows what comes and goes until the context ends.
func (c *cards) follow(ctx context.Context) error {
	if c.d.Volumes == nil {
		return nil
	}
	for ctx.Err() == nil {
		if c.put(c.usable(c.d.Volumes.List())) {
			c.d.changed()
		}
		limited, stop := context.WithTimeout(ctx, cardsAgain)
		c.d.Volumes.Changed(limited)
		stop()
	}
	return nil
}

// usable are the volumes that may be a card: not the one that the device itself lives on, nor one that the plan has a
// folder or a place on.
func (c *cards) usable(list []volume.Volume) []volume.Volume {
	p := c.d.currentPlan()
	taken := []string{c.d.Root}
	if p != nil {
		for _, s := range p.Devices[c.d.Name].Sources {
			if filepath.IsAbs(s.Folder) {
				taken = append(taken, s.Folder)
			}
		}
		for _, dest := range p.Destinations {
			if dest.Kind == plan.Folder {
				taken = append(taken, dest.Path)
			}
		}
	}
	return slices.DeleteFunc(list, func(v volume.Volume) bool {
		return slices.ContainsFunc(taken, func(t string) bool { return plan.Inside(filepath.ToSlash(t), filepath.ToSlash(v.Root)) })
	})
}

// put notes which volumes are here now, and tells whether that changed.
func (c *cards) put(list []volume.Volume) (changed bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	now := map[string]volume.Volume{}
	for _, v := range list {
		now[v.ID] = v
	}
	for id, is := range c.here {
		if v, there := now[id]; !there || v.Root != is.Root {
			delete(c.here, id)
			close(c.back[id])
			delete(c.back, id)
			changed = true
		}
	}
	for id, v := range now {
		if c.here[id] == nil {
			c.here[id], c.back[id] = &onCard{Volume: v}, make(chan struct{})
			changed = true
		}
	}
	if changed {
		close(c.came)
		c.came = make(chan struct{})
	}
	return changed
}

// root is where a volume is, "" while it is away.
func (c *cards) root(id string) string {
	c.mu.Lock()
	defer c.mu.Unlock()
	if is := c.here[id]; is != nil {
		return is.Root
	}
	return ""
}

// isAt tells whether a volume is at a place now; the system is asked anew.
func (c *cards) isAt(id, root string) bool {
	return slices.ContainsFunc(c.d.Volumes.List(), func(v volume.Volume) bool { return v.ID == id && v.Root == root })
}

// wait waits until a volume is here; gone is closed when it goes. ok is false when the context ended first.
func (c *cards) wait(ctx context.Context, id string) (gone <-chan struct{}, ok bool) {
	for {
		c.mu.Lock()
		gone, came := c.back[id], c.came
		c.mu.Unlock()
		if gone != nil {
			return gone, true
		}
		select {
		case <-came:
		case <-ctx.Done():
			return nil, false
		}
	}
}

// look has what is here surveyed, and copied where the keeper said so, beside everything else. It returns when to look
// again.
func (c *cards) look(ctx context.Context, p *plan.Plan, now time.Time) (next time.Time) {
	c.mu.Lock()
	list := slices.Collect(maps.Values(c.here))
	c.mu.Unlock()
	for _, is := range list {
		c.mu.Lock()
		if is.failed != "" && !now.Before(is.retry) {
			is.failed, is.survey, is.copied = "", nil, false // what is on it may be another by now
		}
		v, surveyed, copied := is.Volume, is.survey != nil, is.copied
		gone, due, failed, retry := c.back[v.ID], is.checked.Add(c.d.Wait(cardListed)), is.failed != "", is.retry
		c.mu.Unlock()
		answer, asked := p.Devices[c.d.Name].Card(v.ID)
		switch {
		case gone == nil:
		case failed:
			next = gate.Earlier(next, retry)
		case !surveyed:
			c.d.beside.Begin("card "+v.ID, func() { c.work(ctx, gone, is, c.survey) })
		case !asked && answer.CopyTo != "" && !copied:
			c.d.beside.Begin("card "+v.ID, func() {
				c.work(ctx, gone, is, func(ctx context.Context, is *onCard) error { return c.copy(ctx, is, answer.CopyTo) })
			})
		case copied && now.Before(due):
			next = gate.Earlier(next, due)
		case copied:
			c.d.beside.Begin("card "+v.ID, func() { c.work(ctx, gone, is, c.list) })
		}
	}
	return next
}

// list sees whether there is on a card what was copied of it, and nothing else.
func (c *cards) list(ctx context.Context, is *onCard) error {
	now, err := card.List(ctx, is.Root)
	if err != nil {
		return err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	is.checked = time.Now()
	if !now.Same(*is.survey) {
		is.survey, is.copied = nil, false
	}
	return nil
}

// work does something with a volume until it goes.
func (c *cards) work(ctx context.Context, gone <-chan struct{}, is *onCard,
	do func(context.Context, *onCard) error) {
	ctx, stop := whileHere(ctx, gone)
	defer stop()
	err := do(ctx, is)
	if err != nil && ctx.Err() == nil {
		c.d.Log.Warn("a card could not be worked with", "device", c.d.Name, "volume", is.ID, "err", err)
		c.mu.Lock()
		is.failed, is.retry = destination.Sentence(err), time.Now().Add(c.d.Wait(cardAgain))
		c.mu.Unlock()
	}
	c.d.changed()
}

// whileHere is a context that ends when a volume goes.
func whileHere(ctx context.Context, gone <-chan struct{}) (context.Context, context.CancelFunc) {
	ctx, stop := context.WithCancel(ctx)
	go func() {
		defer stop()
		select {
		case <-gone:
		case <-ctx.Done():
		}
	}()
	return ctx, stop
}

// survey looks at what is on a card, and compares it with what is known.
func (c *cards) survey(ctx context.Context, is *onCard) error {
	ctx, stop := context.WithTimeout(ctx, surveyTime)
	defer stop()
	found, err := card.Look(ctx, is.Root, func(ctx context.Context, of []records.Content) (map[records.Content]records.Held, error) {
		return c.d.Records.Queue.Held(ctx, of, onvolume.Folder(is.ID))
	})
	if err != nil {
		return err
	}
	c.mu.Lock()
	is.survey = &found
	c.mu.Unlock()
	return nil
}

// copy copies what is new on a card into a folder, and compares what is there already. Only then the card is done.
func (c *cards) copy(ctx context.Context, is *onCard, to string) (err error) {
	c.mu.Lock()
	files := is.survey.Files
	is.done, is.of = 0, int64(len(files))
	c.mu.Unlock()
	into, zone := c.d.Folder(to), c.d.currentPlan().Zone(c.d.Name)
	if err := card.Clear(into); err != nil {
		return err
	}
	driver := folder.New(into)
	defer func() { err = errors.Join(err, driver.Close()) }()
	for _, f := range files {
		there := false
		var err error
		if f.Known {
			there, err = c.holds(ctx, is, f)
		}
		if err == nil && !there {
			_, err = card.Copy(ctx, is.Root, f, driver, zone)
		}
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if err != nil {
			return err
		}
		c.mu.Lock()
		is.done++
		c.mu.Unlock()
		c.d.Changed()
	}
	if err := card.Clear(into); err != nil {
		return err
	}
	// What came meanwhile is copied, too; and it must be the same card still.
	again, err := card.List(ctx, is.Root)
	if err != nil {
		return err
	}
	still := slices.ContainsFunc(c.d.Volumes.List(), func(v volume.Volume) bool { return v == is.Volume })
	c.mu.Lock()
	defer c.mu.Unlock()
	switch {
	case !still:
		return fmt.Errorf("the card is not the one that was read any more")
	case !again.Same(*is.survey):
		is.survey = nil // it is surveyed anew
	case again.Unread > 0:
		return fmt.Errorf("%s on the card cannot be read", words.Files(again.Unread))
	default:
		is.copied, is.checked = true, time.Now()
	}
	return nil
}

// holds tells whether a folder of the device has the content of a file of a card, by all of its bytes.
func (c *cards) holds(ctx context.Context, is *onCard, f card.File) (bool, error) {
	sum, err := sumOf(ctx, filepath.Join(is.Root, filepath.FromSlash(f.Path)))
	if err != nil {
		return false, fmt.Errorf("reading %s: %w", f.Path, err)
	}
	alike, err := c.d.Records.Queue.Alike(ctx, records.Content{Size: f.Size, Look: f.Look})
	if err != nil {
		return false, err
	}
	for _, it := range alike {
		if it.GoneMS != 0 || it.Source == onvolume.Folder(is.ID) {
			continue
		}
		own, err := sumOf(ctx, filepath.Join(c.d.Folder(it.Source), filepath.FromSlash(it.Path())))
		if err == nil && own == sum {
			return true, nil
		}
	}
	return false, nil
}

// told is what is told of the cards that are here, and of those that the plan names and that are away.
func (c *cards) told(p *plan.Plan) []cardwire.Card {
	own := p.Devices[c.d.Name]
	c.mu.Lock()
	defer c.mu.Unlock()
	list := []cardwire.Card{}
	for id, is := range c.here {
		answer, asked := own.Card(id)
		one := cardwire.Card{ID: id, Name: cmp.Or(own.Cards[id].Name, is.Label, id), Path: is.Root, Here: true, Done: is.done, Of: is.of,
			Problem: is.failed}
		if s := is.survey; s != nil {
			one.Files, one.Pictures, one.Clips, one.Bytes, one.Known, one.Safe = int64(len(s.Files)), s.Pictures, s.Clips, s.Bytes,
				s.Known, s.Safe
			one.Unread = s.Unread
		}
		_, named := own.Cards[id]
		switch {
		case is.survey == nil:
			one.State = cardwire.Counting
		case asked:
			one.State = cardwire.Asks
		case answer.Leave:
			one.State = cardwire.Left
		case is.copied:
			one.State = cardwire.Done
		case answer.CopyTo != "":
			one.State = cardwire.Copying
		default:
			one.State, one.ByAny = cardwire.Taken, !named && len(answer.Rules) > 0
		}
		one.Says = words.Card(words.CardFigures{Name: one.Name, Device: c.d.Name, Pictures: one.Pictures, Clips: one.Clips,
			Known: one.Known, Safe: one.Safe, Unread: one.Unread, State: string(one.State), Done: one.Done, Of: one.Of,
			Folder: answer.CopyTo, Problem: is.failed, Uncovered: answer.CopyTo != "" && !c.covered(own, answer.CopyTo)})
		list = append(list, one)
	}
	for id, answer := range own.Cards {
		if c.here[id] == nil && id != onvolume.Any {
			name := cmp.Or(answer.Name, id)
			list = append(list, cardwire.Card{ID: id, Name: name, State: cardwire.Away,
				Says: words.Card(words.CardFigures{Name: name, Device: c.d.Name, State: string(cardwire.Away)})})
		}
	}
	slices.SortFunc(list, func(a, b cardwire.Card) int { return cmp.Compare(a.ID, b.ID) })
	return list
}

// covered tells whether a source takes up what is in a folder.
func (c *cards) covered(own plan.Device, folder string) bool {
	return slices.ContainsFunc(own.Sources, func(s plan.Source) bool {
		_, _, comes := onvolume.Of(s.Folder)
		return !comes && plan.Inside(filepath.ToSlash(c.d.Folder(folder)), filepath.ToSlash(c.d.Folder(s.Folder)))
	})
}
