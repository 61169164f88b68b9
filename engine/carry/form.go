package carry

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"
	"time"

	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/core/words"
	"yardtide/engine/records"
	"yardtide/engine/rendition"
	"yardtide/engine/source"
)

// This file knows in which form a copy goes: as shot, or reduced. What is reduced lies in
// a cache while its file is watched as ever: it is the file that must not have changed.

// FormOf is the form in which the plan asks for a class, "" for as shot.
func FormOf(p *plan.Plan, class queue.Class) string {
	r, reduced := p.Form(class.Rule, class.Kind, class.Destination, class.Shelf)
	if !reduced {
		return ""
	}
	return r.String()
}

// Alike are the copies of a copy's item, by its rule and on its shelf, for which a plan asks for a form.
func Alike(p *plan.Plan, copy records.Copy, form string) records.Alike {
	of := records.Alike{Item: copy.Item, Rule: copy.Rule, Shelf: copy.Shelf}
	class := copy.Class
	for _, class.Destination = range p.Rules[copy.Rule].To {
		if FormOf(p, class) == form {
			of.Destinations = append(of.Destinations, class.Destination)
		}
	}
	return of
}

// formKey names what is made of an item in a form, as the item is now.
func formKey(it records.Item, form string) string {
	of := sha256.Sum256(fmt.Appendf(nil, "%d\x00%d\x00%d\x00%d\x00%s", it.ID, it.Size, it.MTime, it.Inode, form))
	return hex.EncodeToString(of[:16])
}

// Prepare makes the form in which a copy's item is to go, and notes it. What cannot be
// reduced goes as shot. Progress is told how much of a clip is made.
func (c *Carrier) Prepare(ctx context.Context, copy records.Copy, progress func(share float64)) error {
	item, ok, err := c.Records.Catalogue.Item(ctx, copy.Item)
	if err != nil || !ok || item.GoneMS != 0 {
		return err // the scan sees to it
	}
	p := c.Plan()
	r, reduced := p.Form(copy.Rule, copy.Kind, copy.Destination, copy.Shelf)
	if !reduced {
		return nil // another plan came
	}
	of := Alike(p, copy, r.String())
	if copy.Shelf.IsPick() { // the storage copies what was made of it
		whole, ok, err := c.Records.Queue.MainCopy(ctx, copy)
		if err != nil {
			return err
		}
		if ok && whole.State == queue.Safe && whole.Form == r.String() {
			return c.Records.Forms.SetForm(ctx, of, r.String(), whole.Reduced, whole.Bytes,
				"It goes as the copy itself did.", time.Now())
		}
	}
	_, made, err := c.made(ctx, item, r, progress)
	var as rendition.AsShot
	bytes, story := made.Bytes, ""
	var not rendition.Refused
	switch {
	case errors.As(err, &not):
		return c.Records.Forms.Refuse(ctx, of, queue.Stuck, "It is not sent: "+not.Why+".",
			"Have it go as shot by another rule, or take its kind out of send, then retry.", time.Now())
	case errors.As(err, &as) && copy.Shelf != plan.Main && !copy.Shelf.IsPick() && (copy.Shelf != plan.Small || !as.Fits):
		return c.Records.Forms.Refuse(ctx, of, queue.Skipped, "There is no smaller one: "+as.Why+
			".", "", time.Now())
	case errors.As(err, &as):
		bytes, story = item.Size, "It goes as shot: "+as.Why+"."
	case err != nil:
		return err
	case made.W > 0:
		story = fmt.Sprintf("Reduced to %d × %d pixels (%s): %s of %s.", made.W, made.H, r, words.Bytes(bytes),
			words.Bytes(item.Size))
	default:
		story = fmt.Sprintf("Reduced (%s): %s of %s.", r, words.Bytes(bytes), words.Bytes(item.Size))
	}
	return c.Records.Forms.SetForm(ctx, of, r.String(), !errors.As(err, &as), bytes, story,
		time.Now())
}

// made is a file with the form of an item.
func (c *Carrier) made(ctx context.Context, item records.Item, r plan.Rendition,
	progress func(share float64)) (string, rendition.Made, error) {
	return c.Forms.Get(ctx, formKey(item, r.String()), r, func() (rendition.Source, func(), error) {
		f, err := c.openItem(ctx, item, c.pathTo(item))
		if err != nil {
			return rendition.Source{}, nil, err
		}
		return rendition.Source{F: struct {
			io.ReadSeeker
			io.ReaderAt
		}{io.NewSectionReader(f, 0, item.Size), f}, Size: item.Size, ContentType: item.ContentType, Path: c.pathTo(item),
			Progress: progress}, f.Close, nil
	})
}

// content is what is read of a send: its file, or what was made of it.
type content struct {
	*source.File // what is read
	original     *source.File
}

// Unchanged sees that the file is as it was found.
func (c content) Unchanged(ctx context.Context, it records.Item) error {
	return c.original.Unchanged(ctx, it)
}

// IsStill tells whether a path leads to the file.
func (c content) IsStill(ctx context.Context, path string) (bool, error) {
	return c.original.IsStill(ctx, path)
}

// Close lets go of both.
func (c content) Close() {
	c.original.Close()
	c.File.Close()
}

// errPrepareAnew tells that what is made of an item now is not what was noted.
var errPrepareAnew = errors.New("it is prepared anew")

// reducedContent opens what was made of a send's file; what is no longer there is made
// again.
func (c *Carrier) reducedContent(ctx context.Context, s *Send, original *source.File) (content, error) {
	r, reduced := c.Plan().Form(s.copy.Rule, s.copy.Kind, s.copy.Destination, s.copy.Shelf)
	if !reduced || r.String() != s.copy.Form {
		return content{}, errPrepareAnew
	}
	file, made, err := c.made(ctx, s.item, r, nil)
	var as rendition.AsShot
	if errors.As(err, &as) || err == nil && made.Bytes != s.copy.Bytes {
		return content{}, errPrepareAnew
	}
	if err != nil {
		return content{}, err
	}
	f, err := source.Open(ctx, file)
	if errors.Is(err, fs.ErrNotExist) { // others needed its room in the cache
		return content{}, errPrepareAnew
	}
	if err != nil {
		return content{}, errors.Join(context.Cause(ctx), fmt.Errorf("opening a rendition: %w", err))
	}
	s.name = s.item.Name
	if ending := path.Ext(file); !alike(path.Ext(s.name), ending) {
		s.name = strings.TrimSuffix(s.name, path.Ext(s.name)) + ending
	}
	return content{f, original}, nil
}

// alike tells whether two endings stand for one format.
func alike(a, b string) bool {
	if strings.EqualFold(b, ".jpg") {
		return strings.EqualFold(a, ".jpg") || strings.EqualFold(a, ".jpeg") || strings.EqualFold(a, ".jpe") ||
			strings.EqualFold(a, ".jfif")
	}
	return strings.EqualFold(a, b) || strings.EqualFold(a, ".m4v") && strings.EqualFold(b, ".mp4")
}

// dropForm removes what was made of an item, once no copy of it is still to go.
func (c *Carrier) dropForm(ctx context.Context, s *Send) {
	if !s.copy.Reduced {
		return
	}
	more, err := c.Records.Forms.StillToGo(ctx, s.item.ID, s.copy.Form)
	if err == nil && !more {
		err = c.Forms.Drop(formKey(s.item, s.copy.Form))
	}
	if err != nil { // it goes when others need its room
		c.Log.Warn("a rendition that was sent stays a while", "device", c.Device, "item", s.item.ID, "err", err)
	}
}
