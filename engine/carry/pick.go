package carry

import (
	"context"
	"errors"
	"fmt"
	"path"
	"strings"

	"yardtide/core/queue"
	"yardtide/core/words"
	"yardtide/engine/destination"
	"yardtide/engine/records"
)

// A pick is made of the copy itself by the storage, where it can: the picture does not
// travel twice.

// copyThere has the storage make a pick of the copy itself; false where it is sent like
// any other.
func (s sending) copyThere(ctx context.Context) (bool, error) {
	copier, able := s.driver.(destination.Copier)
	if !able {
		return false, nil
	}
	whole, ok, err := s.c.Records.Queue.MainCopy(ctx, s.copy)
	if err != nil {
		return false, err
	}
	if !ok || whole.State != queue.Safe || whole.Remote == "" || whole.SHA256 == "" || whole.Bytes != s.copy.Bytes {
		return false, nil
	}
	if ending := path.Ext(whole.Remote); whole.Reduced && !alike(path.Ext(s.name), ending) {
		s.name = strings.TrimSuffix(s.name, path.Ext(s.name)) + ending
	}
	temp := s.copy.Temp
	if temp != "" { // of an earlier try
		if err := s.driver.Remove(ctx, temp); err != nil {
			return false, err
		}
	}
	temp = destination.NewTemp(s.c.Owner)
	s.temp = temp
	s.meter.began.Store(true)
	if err := s.c.step(ctx, s.Send, queue.Sending, "The storage copies what is safe there as "+whole.Remote+".",
		records.Change{Says: text(""), Temp: &temp, Remote: text(""), SHA256: text(""), Landed: new(bool)}); err != nil {
		return false, err
	}
	switch err := copier.Copy(ctx, whole.Remote, temp); {
	case errors.Is(err, destination.ErrUnable), errors.Is(err, destination.ErrNotFound):
		s.copy.Temp = temp // sending writes over it
		return false, nil
	case err != nil:
		return false, err
	}
	s.date(ctx, temp)
	remote, landed, err := s.publish(ctx, temp, whole.SHA256)
	if err != nil {
		return false, err
	}
	s.lies(remote, whole.SHA256, landed)
	return true, s.c.step(ctx, s.Send, queue.Proving, fmt.Sprintf("Copied at the storage as %s, %s.", remote,
		words.Bytes(s.copy.Bytes)),
		records.Change{Temp: text(""), Remote: &remote, SHA256: &whole.SHA256, Landed: &landed})
}
