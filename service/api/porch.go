package api

import (
	"context"
	"crypto/tls"
	"errors"
	"log/slog"
	"net"
	"sync"
	"time"
)

// A porch is the listener of the home network. Who comes is a stranger until a call shows a
// device's token: strangers have room of their own, few connections an address and little
// time, so that however many stand there, no device is shut out.
type porch struct {
	net.Listener
	config *tls.Config
	log    *slog.Logger
	done   chan struct{}
	in     chan net.Conn
	wait   sync.WaitGroup

	mu        sync.Mutex
	strangers map[*connection]struct{}
	turned    int // strangers that were turned away in this minute
	failed    error
}

const (
	mostStrangers  = 128              // connections that showed no token yet
	mostFromOne    = 16               // of them, from one address
	greetTime      = 5 * time.Second  // for the handshake
	strangerTime   = 15 * time.Second // until a call shows a token
	strangersTold  = time.Minute      // how often it is told that strangers were turned away
	acceptAgain    = 50 * time.Millisecond
	mostKnownCalls = 512
)

// newPorch begins to greet who comes to a listener. Without a configuration nothing is encrypted.
func newPorch(l net.Listener, config *tls.Config, log *slog.Logger) *porch {
	d := &porch{Listener: l, config: config, log: log, done: make(chan struct{}), in: make(chan net.Conn),
		strangers: map[*connection]struct{}{}}
	d.wait.Go(d.greetAll)
	d.wait.Go(d.tellOfStrangers)
	return d
}

// Accept implements net.Listener: of those whose handshake is done.
func (d *porch) Accept() (net.Conn, error) {
	select {
	case c := <-d.in:
		return c, nil
	case <-d.done:
		d.mu.Lock()
		defer d.mu.Unlock()
		if d.failed != nil {
			return nil, d.failed
		}
		return nil, net.ErrClosed
	}
}

// Close implements net.Listener. It waits for the greetings under way.
func (d *porch) Close() error {
	err := d.Listener.Close()
	d.mu.Lock()
	select {
	case <-d.done:
	default:
		close(d.done)
	}
	var all []*connection
	for c := range d.strangers {
		all = append(all, c)
	}
	d.mu.Unlock()
	for _, c := range all {
		_ = c.Conn.Close() // a stranger's
	}
	d.wait.Wait()
	return err
}

func (d *porch) greetAll() {
	for {
		conn, err := d.Listener.Accept()
		if err != nil {
			var passing net.Error
			if errors.As(err, &passing) && passing.Timeout() || !errors.Is(err, net.ErrClosed) && d.open() && isShort(err) {
				time.Sleep(acceptAgain) // too many files are open, for now
				continue
			}
			d.mu.Lock()
			d.failed = err
			select {
			case <-d.done:
			default:
				close(d.done)
			}
			d.mu.Unlock()
			return
		}
		c := d.stranger(conn)
		if c == nil {
			continue
		}
		d.wait.Go(func() { d.greet(c) })
	}
}

func (d *porch) open() bool {
	select {
	case <-d.done:
		return false
	default:
		return true
	}
}

// stranger takes a connection in as a stranger's, or turns it away. The oldest of its own
// address makes room for it, so that a device behind the same address comes in.
func (d *porch) stranger(conn net.Conn) *connection {
	c := &connection{porch: d, from: hostOf(conn.RemoteAddr()), since: time.Now()}
	d.mu.Lock()
	var oldest *connection
	same := 0
	for other := range d.strangers {
		if other.from != c.from {
			continue
		}
		if same++; oldest == nil || other.since.Before(oldest.since) {
			oldest = other
		}
	}
	turn := conn
	switch {
	case same >= mostFromOne:
		turn = oldest.raw
		delete(d.strangers, oldest)
	case len(d.strangers) < mostStrangers:
		turn = nil
	}
	if turn != nil {
		d.turned++
	}
	if turn != conn {
		if c.raw, c.Conn = conn, conn; d.config != nil {
			c.Conn = tls.Server(conn, d.config)
		}
		d.strangers[c] = struct{}{}
	}
	d.mu.Unlock()
	if turn != nil {
		_ = turn.Close() // a stranger's
	}
	if turn == conn {
		return nil
	}
	return c
}

func hostOf(a net.Addr) string {
	host, _, err := net.SplitHostPort(a.String())
	if err != nil {
		return a.String()
	}
	return host
}

// greet makes the handshake.
func (d *porch) greet(c *connection) {
	ctx, cancel := context.WithTimeout(context.Background(), greetTime)
	defer cancel()
	var err error
	if secured, is := c.Conn.(*tls.Conn); is {
		err = secured.HandshakeContext(ctx)
	}
	if err == nil {
		select {
		case d.in <- c:
			return
		case <-d.done:
		}
	}
	d.mu.Lock()
	if _, stands := d.strangers[c]; stands && err != nil {
		d.turned++
	}
	d.mu.Unlock()
	_ = c.Close() // a stranger's
}

// tellOfStrangers writes one line a minute, with how many were turned away.
func (d *porch) tellOfStrangers() {
	tick := time.NewTicker(strangersTold)
	defer tick.Stop()
	for {
		select {
		case <-d.done:
			return
		case <-tick.C:
		}
		d.mu.Lock()
		n := d.turned
		d.turned = 0
		d.mu.Unlock()
		if n > 0 {
			d.log.Warn("strangers on the home network were turned away", "connections", n)
		}
	}
}

// connection is one of a stranger or of a device.
type connection struct {
	net.Conn // encrypted
	raw      net.Conn
	porch    *porch
	from     string
	since    time.Time
	known    bool // under the porch's lock
}

// Known notes that a call of a connection showed a device's token.
func (c *connection) Known() {
	c.porch.mu.Lock()
	defer c.porch.mu.Unlock()
	if !c.known {
		c.known = true
		delete(c.porch.strangers, c)
	}
}

// SetReadDeadline implements net.Conn: a stranger has little time, whatever the server gives.
func (c *connection) SetReadDeadline(t time.Time) error {
	c.porch.mu.Lock()
	known := c.known
	c.porch.mu.Unlock()
	if last := c.since.Add(strangerTime); !known && (t.IsZero() || t.After(last)) {
		t = last
	}
	return c.Conn.SetReadDeadline(t)
}

// Close implements net.Conn.
func (c *connection) Close() error {
	c.porch.mu.Lock()
	delete(c.porch.strangers, c)
	c.porch.mu.Unlock()
	return c.Conn.Close()
}
