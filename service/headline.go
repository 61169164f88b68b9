package service

import (
	"fmt"
	"strings"

	"yardtide/core/media"
	"yardtide/core/queue"
	"yardtide/core/words"
	"yardtide/wire"
)

// headline tells how the items of all devices stand: "118 of 124 pictures and clips
// are safe. 6 wait, 23 MB."
func headline(devices []wire.Device) string {
	states := map[queue.State]wire.Amount{}
	all := int64(0)
	var kinds []media.Kind
	for _, d := range devices {
		kinds = append(kinds, d.Kinds...)
		for state, a := range d.States {
			if state == queue.Preparing { // for people it is on its way
				state = queue.Sending
			}
			states[state] = states[state].Plus(a.N, a.Bytes)
			if state != queue.Skipped {
				all += a.N
			}
		}
	}
	safe := states[queue.Safe].N
	switch {
	case all == 0:
		return "Nothing found yet."
	case safe == all:
		return fmt.Sprintf("Everything is safe: %s.", words.Things(all, kinds...))
	}
	says := []string{fmt.Sprintf("%s of %s are safe.", words.Count(safe), words.Things(all, kinds...))}
	for _, part := range []struct {
		state     queue.State
		one, many string
	}{
		{queue.Stuck, "needs you", "need you"}, {queue.Sending, "is on its way", "are on their way"},
		{queue.Waiting, "waits", "wait"}, {queue.Proving, "owes a proof", "owe a proof"},
	} {
		a := states[part.state]
		if a.N == 0 {
			continue
		}
		verb := part.many
		if a.N == 1 {
			verb = part.one
		}
		says = append(says, fmt.Sprintf("%s %s, %s.", words.Count(a.N), verb, words.Bytes(a.Bytes)))
	}
	return strings.Join(says, " ")
}
