package destination

import (
	"context"
	"hash/fnv"
	"io"
)

// NameLocks let one at a time of this process put something in place under a
// name. Waiting for one ends with the context. Make them with NewNameLocks.
type NameLocks struct {
	locks [64]chan struct{} // by hash of the name; each has room for one
}

// NewNameLocks makes locks that nobody has.
func NewNameLocks() *NameLocks {
	n := &NameLocks{}
	for i := range n.locks {
		n.locks[i] = make(chan struct{}, 1)
	}
	return n
}

// Lock takes a name's lock and returns what lets go of it.
func (n *NameLocks) Lock(ctx context.Context, name string) (unlock func(), err error) {
	h := fnv.New32a()
	_, _ = io.WriteString(h, name) // a hash takes everything
	l := n.locks[h.Sum32()%uint32(len(n.locks))]
	select {
	case l <- struct{}{}:
		return func() { <-l }, nil
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	}
}
