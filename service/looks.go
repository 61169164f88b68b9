package service

import (
	"context"
	"time"
)

// This file looks at places because a guest said something of them. A guest's word changes
// nothing by itself.

// looks are the paths to look at, bounded: what does not fit is asked for again by whoever
// meets it.
type looks struct{ next chan atPath }

type atPath struct{ destination, path string }

const (
	mostLooks = 256
	lookPause = 200 * time.Millisecond // between two, so that no guest keeps a storage busy
	lookAgain = 10 * time.Minute       // before the same path is looked at again
	lookTime  = 10 * time.Minute       // for one
)

func newLooks() looks { return looks{make(chan atPath, mostLooks)} }

// ask has a path looked at soon; it never blocks.
func (l looks) ask(destination, path string) {
	select {
	case l.next <- atPath{destination, path}:
	default:
	}
}

// lookAtClaims looks at what guests said, one path after the other, until the context ends.
func (s *Service) lookAtClaims(ctx context.Context) {
	seen := map[atPath]time.Time{}
	for {
		var at atPath
		select {
		case <-ctx.Done():
			return
		case at = <-s.looks.next:
		}
		now := time.Now()
		for one, when := range seen {
			if now.Sub(when) > lookAgain {
				delete(seen, one)
			}
		}
		if _, known := seen[at]; known || len(seen) > 4*mostLooks {
			continue
		}
		seen[at] = now
		for _, d := range s.members.all() {
			limited, cancel := context.WithTimeout(ctx, lookTime)
			if err := d.Orders.LookAt(limited, at.destination, at.path); err != nil && ctx.Err() == nil {
				s.Log.Warn("what a device said of another's copy could not be looked at", "destination", at.destination, "path",
					at.path, "err", err)
			}
			cancel()
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(lookPause):
		}
	}
}
