package fleet

import (
	"context"
	"sync"
)

// nameKey is a path at a destination.
type nameKey struct{ destination, path string }

// Name gives the right to put something in place under a path at a destination: one at a
// time has it, until what it returns is called. Sure tells that nobody else can have it;
// in one process that is so.
func (f *Fleet) Name(ctx context.Context, destination, path string) (end func(), sure bool, err error) {
	key := nameKey{destination, path}
	for {
		f.mu.Lock()
		other, taken := f.names[key]
		if !taken {
			if f.names == nil {
				f.names = map[nameKey]chan struct{}{}
			}
			ended := make(chan struct{})
			f.names[key] = ended
			f.mu.Unlock()
			return sync.OnceFunc(func() {
				f.mu.Lock()
				defer f.mu.Unlock()
				delete(f.names, key)
				close(ended)
			}), true, nil
		}
		f.mu.Unlock()
		select {
		case <-other:
		case <-ctx.Done():
			return nil, false, context.Cause(ctx)
		}
	}
}
