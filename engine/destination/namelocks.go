package destination

import (
	"hash/fnv"
	"io"
	"sync"
)

// NameLocks let one at a time of this process put something in place under a
// name. The zero value is ready.
type NameLocks struct {
	locks [64]sync.Mutex // by hash of the name
}

// Lock takes a name's lock and returns what lets go of it.
func (n *NameLocks) Lock(name string) (unlock func()) {
	h := fnv.New32a()
	_, _ = io.WriteString(h, name) // a hash takes everything
	l := &n.locks[h.Sum32()%uint32(len(n.locks))]
	l.Lock()
	return l.Unlock
}
