package carry

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"sync"

	"yardtide/core/gate"
	"yardtide/core/queue"
	"yardtide/core/words"
	"yardtide/engine/destination"
	"yardtide/engine/records"
	"yardtide/engine/source"
)

// A small file is read whole, seen to be unchanged and hashed before anything of it
// leaves. So its name and hash are on record in one step before a byte is written,
// and what follows, that it landed and that it was proven, in one more. Object storage takes it
// under its own name.

// smallFile is the size up to which a file goes so.
const smallFile = gate.SmallCopy

// smallBuffers hold small files while they are sent.
var smallBuffers = sync.Pool{New: func() any { b := make([]byte, smallFile); return &b }}

// landing is what is still to be recorded of a file that was put in place.
type landing struct {
	story  string
	change records.Change
}

// goesWhole tells whether a copy may go as a small file: nothing of it is there or
// under way, and nothing about it must be counted or asked on the way.
func (s sending) goesWhole() bool {
	return s.copy.Bytes <= smallFile && s.copy.Temp == "" && s.copy.Remote == "" && !s.Metered && !s.reserved &&
		!s.Ordered && !s.c.Plan().Rules[s.copy.Rule].StoreEach
}

// sendWhole sends a small file and puts it in place. That it landed is recorded with
// its proof (see recordLanded).
func (s sending) sendWhole(ctx context.Context) error {
	buffer := smallBuffers.Get().(*[]byte)
	content := (*buffer)[:s.copy.Bytes]
	sum, err := s.readWhole(ctx, content)
	if err != nil {
		smallBuffers.Put(buffer)
		return err
	}
	ctx = destination.WithRights(ctx, s.rights)
	s.meter.began.Store(true)
	base, err := s.pathOf(ctx)
	if err != nil {
		return err
	}
	path, end, err := s.alone(ctx, base, sum)
	if errors.Is(err, errBeside) {
		smallBuffers.Put(buffer)
		s.hash = sum
		return s.c.rest(ctx, s.Send, base, "The same content is there as "+base+"; it is not sent again.")
	}
	if err != nil {
		return err
	}
	defer end()
	landed := true
	switch err := s.place(ctx, path, sum, content); {
	case err == nil:
		smallBuffers.Put(buffer)
	case errors.Is(err, destination.ErrUnable), errors.Is(err, destination.ErrExists):
		taken := errors.Is(err, destination.ErrExists)
		if path, landed, err = s.sendTo(ctx, path, sum, content, end); err != nil {
			return err
		}
		if !taken { // else a transport may read it still: a storage answers before all of it came
			smallBuffers.Put(buffer)
		}
	default:
		return err
	}
	sent := s.copy.Sent + s.meter.n.Load()
	s.lies(path, sum, landed)
	s.unrecorded = &landing{fmt.Sprintf("Sent %s as %s.", words.Bytes(s.copy.Bytes), path),
		records.Change{Temp: text(""), Remote: &path, SHA256: &sum, Sent: &sent, Landed: &landed}}
	return nil
}

// place puts a small file under its own name in one step, where the storage takes it so.
func (s sending) place(ctx context.Context, path, sum string, content []byte) error {
	placer, able := s.driver.(destination.Placer)
	if _, dates := s.driver.(destination.Dater); !able || dates { // a time is given before the name is
		return destination.ErrUnable
	}
	// The name is on record before anything is written under it.
	if err := s.c.step(ctx, s.Send, queue.Sending, s.way(), records.Change{Says: text(""), Temp: text(""), Remote: &path,
		SHA256: &sum, Landed: new(bool)}); err != nil {
		return err
	}
	for left := int(s.copy.Bytes); left > 0; left -= PaceStep {
		if err := s.c.Pace.WaitN(ctx, min(left, PaceStep)); err != nil {
			return errors.Join(context.Cause(ctx), err)
		}
	}
	err := placer.Place(ctx, path, content, sum)
	if err == nil {
		s.placed = true
		s.meter.n.Add(s.copy.Bytes)
	}
	return err
}

// sendTo sends a small file under a temporary name and puts it in place at a path, or beside what has
// it; end gives the right to that path back.
func (s sending) sendTo(ctx context.Context, path, sum string, content []byte,
	end func()) (remote string, landed bool, err error) {
	temp := destination.NewTemp(s.c.Owner)
	s.temp = temp
	change := records.Change{Says: text(""), Temp: &temp, Remote: &path, SHA256: &sum, Landed: new(bool)}
	if s.copy.State == queue.Sending { // its own name was tried
		err = s.c.Records.Queue.Note(ctx, s.copy.ID, temp, path, sum)
	} else {
		err = s.c.step(ctx, s.Send, queue.Sending, s.way(), change)
	}
	if err != nil {
		return "", false, err
	}
	body := &sendReader{ctx: ctx, f: bytes.NewReader(content), meter: &s.meter, pace: s.c.Pace,
		note: func() error { return nil }}
	if err := s.driver.Put(ctx, temp, body, 0, s.copy.Bytes); err != nil {
		return "", false, err
	}
	s.date(ctx, temp)
	err = s.driver.Publish(ctx, temp, path)
	if errors.Is(err, destination.ErrExists) {
		end()
		return s.publish(ctx, temp, sum)
	}
	return path, true, err
}

// readWhole reads a small file, and tells its hash once it is seen that it did not
// change meanwhile.
func (s sending) readWhole(ctx context.Context, content []byte) (string, error) {
	f, err := s.open(ctx)
	if err != nil {
		return "", err
	}
	defer f.Close()
	if _, err := io.ReadFull(f, content); err != nil {
		switch {
		case context.Cause(ctx) != nil:
			return "", context.Cause(ctx)
		case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
			return "", source.Error{Cause: queue.Changed, Says: "The file became shorter while it was read."}
		}
		return "", source.Unreadable("read to its end", err)
	}
	if err := f.Unchanged(ctx, s.item); err != nil {
		return "", err
	}
	if same, err := f.IsStill(ctx, s.path); err != nil || !same {
		return "", errors.Join(err, source.Error{Cause: queue.Changed, Says: "The file was replaced while it was read."})
	}
	hash := sha256.Sum256(content)
	sum := hex.EncodeToString(hash[:])
	if s.hash != "" && s.hash != sum {
		return "", source.Error{Cause: queue.Changed, Says: "The file changed while it was read."}
	}
	return sum, nil
}

// settle records that a small file landed, where its proof did not record it.
func (s sending) settle(ctx context.Context) error {
	l := s.unrecorded
	if l == nil {
		return nil
	}
	s.unrecorded = nil
	return s.c.step(ctx, s.Send, queue.Proving, l.story, l.change)
}
