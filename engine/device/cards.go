package device

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
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
	"yardtide/engine/probe"
	"yardtide/engine/records"
	"yardtide/engine/source"
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

// onCard is what is known of one volume that is here.
type onCard struct {
	volume.Volume
	survey   *card.Survey // nil while it is surveyed
	done, of int64        // files that are copied, and that are to be
	copied   bool         // everything that is new is copied and was compared
	checked  time.Time    // when it was listed last since
	failed   string
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
	if c.here == nil {
		c.here, c.back, c.came = map[string]*onCard{}, map[string]chan struct{}{}, make(chan struct{})
	}
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

// wait waits until a volume is here; gone is closed when it goes. ok is false when the context ended first.
func (c *cards) wait(ctx context.Context, id string) (gone <-chan struct{}, ok bool) {
	for {
		c.mu.Lock()
		gone, came := c.back[id], c.came
		if came == nil { // nothing was listed yet
			c.here, c.back, c.came = map[string]*onCard{}, map[string]chan struct{}{}, make(chan struct{})
			came = c.came
		}
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
		v, surveyed, again := is.Volume, is.survey != nil, is.survey != nil && !is.copied && is.failed == ""
		gone, copied, due := c.back[v.ID], is.copied, is.checked.Add(c.d.Wait(cardListed))
		c.mu.Unlock()
		answer, asked := p.Devices[c.d.Name].Card(v.ID)
		switch {
		case gone == nil:
		case !surveyed:
			c.d.beside.Begin("card "+v.ID, func() { c.work(ctx, gone, is, c.survey) })
		case !asked && answer.CopyTo != "" && again:
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
	ctx, stop := context.WithTimeoutCause(ctx, 24*time.Hour, context.DeadlineExceeded)
	defer stop()
	go func() {
		select {
		case <-gone:
			stop()
		case <-ctx.Done():
		}
	}()
	err := do(ctx, is)
	c.mu.Lock()
	if err != nil && ctx.Err() == nil {
		is.failed = destination.Sentence(err)
		c.d.Log.Warn("a card could not be worked with", "device", c.d.Name, "volume", is.ID, "err", err)
		time.AfterFunc(c.d.Wait(cardAgain), func() {
			c.mu.Lock()
			is.failed, is.survey = "", nil // what is on it may be another by then
			c.mu.Unlock()
			c.d.changed()
		})
	}
	c.mu.Unlock()
	c.d.changed()
}

// survey looks at what is on a card, and compares it with what is known.
func (c *cards) survey(ctx context.Context, is *onCard) error {
	ctx, stop := context.WithTimeout(ctx, surveyTime)
	defer stop()
	own := onvolume.Folder(is.ID)
	found, err := card.Look(ctx, is.Root, func(ctx context.Context, of []card.Content) (map[card.Content]card.Held, error) {
		looks := make([]records.Content, len(of))
		for i, one := range of {
			looks[i] = records.Content(one)
		}
		alike, err := c.d.Records.Queue.Lookalikes(ctx, looks)
		held := map[card.Content]card.Held{}
		for _, it := range alike {
			is := held[card.Content(it.Content)]
			held[card.Content(it.Content)] = card.Held{Here: is.Here || it.GoneMS == 0 && it.Source != own, Safe: is.Safe || it.Safe}
		}
		return held, err
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
	in, err := source.Open(ctx, filepath.Join(is.Root, filepath.FromSlash(f.Path)))
	if err != nil {
		return false, fmt.Errorf("opening %s: %w", f.Path, err)
	}
	defer in.Close()
	sum, look, err := sumAndLook(in, f.Size)
	if err != nil {
		return false, fmt.Errorf("reading %s: %w", f.Path, err)
	}
	alike, err := c.d.Records.Queue.Alike(ctx, f.Size, look)
	if err != nil {
		return false, err
	}
	own := onvolume.Folder(is.ID)
	for _, it := range alike {
		if it.GoneMS == 0 && it.Source != own && c.has(ctx, it, sum) {
			return true, nil
		}
	}
	return false, nil
}

// has tells whether an item's file has a content.
func (c *cards) has(ctx context.Context, it records.Item, sum string) bool {
	f, err := source.Open(ctx, filepath.Join(c.d.Folder(it.Source), filepath.FromSlash(it.Path())))
	if err != nil {
		return false
	}
	defer f.Close()
	own, _, err := sumAndLook(f, it.Size)
	return err == nil && own == sum
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

// sumAndLook reads a file to its end.
func sumAndLook(f *source.File, size int64) (sum, look string, err error) {
	h := sha256.New()
	if _, err := io.CopyBuffer(h, io.NewSectionReader(f, 0, size), make([]byte, source.Buffer)); err != nil {
		return "", "", err
	}
	look, err = probe.Look(f, size)
	return hex.EncodeToString(h.Sum(nil)), look, err
}
