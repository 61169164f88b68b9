package api

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"net"
	"sync"
	"time"

	"yardtide/wire"

	"github.com/gofiber/fiber/v3"
)

// This file streams how the yard stands. What is told is made once for all who listen.

// telling streams events, and keeps the one that was made last.
type telling struct {
	log    *slog.Logger
	ended  chan struct{} // closed when streams must end
	status func(context.Context) (wire.Yard, error)
	next   func() <-chan struct{} // closed at the next change

	mu   sync.Mutex
	last event
}

// event is a status, as it is streamed.
type event struct {
	text    string
	sending bool            // something is being sent: its bars move
	next    <-chan struct{} // closed at the change after it
	at      time.Time
}

// now is an event of this moment: for one who listens already it may be as old as the pace,
// at which another follows.
func (t *telling) now(fresh bool) (event, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if time.Since(t.last.at) < pace && !(fresh && isClosed(t.last.next)) {
		return t.last, nil
	}
	is := event{next: t.next(), at: time.Now()}
	st, err := t.status(context.Background())
	if err != nil {
		return is, err
	}
	data, err := json.Marshal(st)
	if err != nil {
		return is, fmt.Errorf("writing a status: %w", err)
	}
	for _, d := range st.Devices {
		is.sending = is.sending || len(d.Sends) > 0
	}
	is.text = "event: status\ndata: " + string(data) + "\n\n"
	t.last = is
	return is, nil
}

func isClosed(c <-chan struct{}) bool {
	select {
	case <-c:
		return true
	default:
		return false
	}
}

// events streams the status: now, at every change, and while something is
// sent, for the moving bars.
func (t *telling) events(c fiber.Ctx) error {
	c.Set("Content-Type", "text/event-stream")
	conn := c.RequestCtx().Conn()
	return c.SendStreamWriter(func(w *bufio.Writer) {
		defer func() {
			if p := recover(); p != nil { // fasthttp does not catch it
				t.log.Error("the event stream panicked", "panic", p)
			}
		}()
		for first := true; ; first = false {
			now, err := t.now(first)
			if err != nil {
				t.log.Error("a status for the event stream failed", "err", err)
				return
			}
			if !t.emit(w, conn, now.text) || !t.waitForChange(w, conn, now.next, now.sending) {
				return
			}
		}
	})
}

// waitForChange waits for the pace and then for a change, a moving bar or the
// end; false at the end.
func (t *telling) waitForChange(w *bufio.Writer, conn net.Conn, next <-chan struct{}, sending bool) bool {
	select {
	case <-t.ended:
		return false
	case <-time.After(pace):
	}
	if sending {
		return true
	}
	beat := time.NewTicker(heartbeat)
	defer beat.Stop()
	for {
		select {
		case <-t.ended:
			return false
		case <-next:
			return true
		case <-beat.C: // a gone listener shows only at the next write
			if !t.emit(w, conn, ": still here\n\n") {
				return false
			}
		}
	}
}

func (t *telling) emit(w *bufio.Writer, conn net.Conn, text string) bool {
	if err := conn.SetWriteDeadline(time.Now().Add(10 * time.Second)); err != nil {
		return false
	}
	if _, err := w.WriteString(text); err != nil {
		return false
	}
	return w.Flush() == nil
}
