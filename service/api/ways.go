package api

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"io"
	"net"
	"sync"
	"time"

	"yardtide/wire/phonewire"
)

// On one address of the home network there are two: the link, which devices call, and what phones that hand over ask
// for. Who comes is told by the first line of the first call.

// linkPaths are how the first lines of a device's calls begin.
var linkPaths = [][]byte{[]byte("POST /join"), []byte("POST /link/")}

// ways parts a listener in two.
type ways struct{ link, phones *way }

// way is one of them.
type way struct {
	net.Listener // for its address, and to be closed
	in           chan net.Conn
	done         chan struct{}
	end          sync.Once
}

// parted parts who comes to a porch. Each connection is read by itself, within the time that the porch gives a stranger.
func parted(p *porch) ways {
	w := ways{&way{Listener: p, in: make(chan net.Conn), done: make(chan struct{})},
		&way{Listener: p, in: make(chan net.Conn), done: make(chan struct{})}}
	p.wait.Go(func() {
		defer w.link.ended()
		defer w.phones.ended()
		for {
			conn, err := p.Accept()
			if err != nil {
				return
			}
			p.wait.Go(func() { w.lead(conn) })
		}
	})
	return w
}

// lead has a connection go the way that it asks for.
func (w ways) lead(conn net.Conn) {
	if err := conn.SetReadDeadline(time.Now().Add(strangerTime)); err != nil {
		_ = conn.Close() // a stranger's
		return
	}
	r := bufio.NewReaderSize(conn, 4096)
	to := w.phones
	for _, path := range linkPaths {
		if first, err := r.Peek(len(path)); err == nil && bytes.Equal(first, path) {
			to = w.link
		} else if err != nil && !errors.Is(err, io.EOF) {
			_ = conn.Close() // a stranger's
			return
		}
	}
	select {
	case to.in <- peeked{conn, r}:
	case <-to.done:
		_ = conn.Close() // nobody serves it
	}
}

// peeked is a connection of which the beginning was read.
type peeked struct {
	net.Conn
	r *bufio.Reader
}

func (p peeked) Read(b []byte) (int, error) {
	if p.r.Buffered() > 0 {
		return p.r.Read(b)
	}
	return p.Conn.Read(b)
}

// Known notes that a call showed a key.
func (p peeked) Known() {
	if c, is := p.Conn.(interface{ Known() }); is {
		c.Known()
	}
}

func (w *way) ended() { w.end.Do(func() { close(w.done) }) }

// Accept implements net.Listener.
func (w *way) Accept() (net.Conn, error) {
	select {
	case c := <-w.in:
		return c, nil
	case <-w.done:
		return nil, net.ErrClosed
	}
}

// Close implements net.Listener: the porch is closed by who made it.
func (w *way) Close() error {
	w.ended()
	return nil
}

// certificate is the service's, with the name or address that is asked for.
func (h *Home) certificate(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
	return h.service.Household.Authority.For(hello, time.Now())
}

// listenForPhones listens for phones without encryption, and for SFTP, where the keeper says so.
func (h *Home) listenForPhones(ctx context.Context) {
	for ctx.Err() == nil {
		n, moved := h.service.Phones.Network()
		served, cancel := context.WithCancel(ctx)
		var all sync.WaitGroup
		listen := func(address string, tell func(n *phonewire.PhoneNetwork, at, problem string), serve func(context.Context, *porch) error) {
			if address == "" {
				return
			}
			all.Go(func() {
				h.listenAt(served, address, "phones", func(at, problem string) {
					h.service.Phones.Listens(func(n *phonewire.PhoneNetwork) { tell(n, at, problem) })
				}, func(ctx context.Context, l net.Listener) error {
					p := newPorch(l, nil, h.log)
					defer func() { _ = p.Close() }() // who serves has ended
					return serve(ctx, p)
				})
			})
		}
		listen(n.Plain, func(n *phonewire.PhoneNetwork, at, problem string) { n.PlainAt, n.PlainProblem = at, problem },
			func(ctx context.Context, p *porch) error { return h.phones.Serve(ctx, p, false) })
		listen(n.SFTP, func(n *phonewire.PhoneNetwork, at, problem string) { n.SFTPAt, n.SFTPProblem = at, problem },
			func(ctx context.Context, p *porch) error {
				return h.phones.ServeSFTP(ctx, p, h.service.Household.Authority.HostKey())
			})
		select {
		case <-ctx.Done():
		case <-moved:
		}
		cancel()
		all.Wait()
	}
}
