package sftp

import (
	"context"
	"errors"
	"io"
	"net"
	"os"
	"path"
	"strings"
	"sync"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"yardtide/core/queue"
	"yardtide/engine/destination"
)

// This file is the one connection of a driver: made when it is needed, shared, let go of when it was
// lost, and what an error on it means.

// line is the connection to a storage, and what is known while it lasts.
type line struct {
	o Options

	connecting chan struct{} // has room for one: who filled it connects

	mu      sync.Mutex // never held while the server is waited for
	client  *sftp.Client
	conn    *ssh.Client
	closed  bool
	folders map[string]bool // known to exist, and to be no links
	mute    bool            // this connection's server runs no programs
	made    uint64          // how many connections

	watching sync.WaitGroup // of connections, and of questions that were given up
}

func newLine(o Options) *line {
	if o.Stall == 0 {
		o.Stall = time.Minute
	}
	return &line{o: o, folders: map[string]bool{}, connecting: make(chan struct{}, 1)}
}

// identityError tells that the server is not the one that the plan names.
type identityError struct{ seen string }

func (e identityError) Error() string { return "its host key has the fingerprint " + e.seen }

// Connection implements destination.Connected.
func (l *line) Connection() uint64 {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.made
}

func (l *line) connected() *sftp.Client {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.client
}

// connect returns the shared client, making it when there is none.
func (l *line) connect(ctx context.Context) (*sftp.Client, error) {
	if client := l.connected(); client != nil {
		return client, nil
	}
	select {
	case l.connecting <- struct{}{}:
		defer func() { <-l.connecting }()
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	}
	if client := l.connected(); client != nil { // by who was before
		return client, nil
	}
	methods, err := l.methods()
	if err != nil {
		return nil, err
	}
	// A server has a key of each of several kinds and shows one that both know.
	// The pinned one may be any of them, so each kind is asked for.
	var conn *ssh.Client
	for _, kind := range hostKeyKinds {
		var other error
		if conn, other = l.dial(ctx, methods, kind); other == nil {
			err = nil
			break
		}
		if err == nil || destination.CauseOf(err) == queue.Misplaced {
			err = other // the first key that was seen is the one to show
		}
		if cause := destination.CauseOf(other); cause != queue.Identity && cause != queue.Misplaced {
			break
		}
	}
	if err != nil {
		return nil, err
	}
	var client *sftp.Client
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() }) // ends the wait below
	client, err = sftp.NewClient(conn, sftp.UseConcurrentWrites(true), sftp.MaxPacketUnchecked(packet),
		sftp.MaxConcurrentRequestsPerFile(inFlight))
	if !stop() {
		return nil, errors.Join(context.Cause(ctx), closed(conn))
	}
	if err != nil {
		// A server without file transfer refuses it in words, and its connection goes on.
		if _, _, lost := conn.SendRequest("keepalive@openssh.com", true, nil); lost != nil {
			return nil, errors.Join(&destination.Error{Cause: queue.Unreachable, Says: "the connection to " + l.o.Address +
				" was lost", Err: err}, closed(conn))
		}
		return nil, errors.Join(&destination.Error{Cause: queue.Misplaced, Says: l.o.Address +
			" offers no file transfer over SSH", Err: err}, closed(conn))
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.closed {
		return nil, errors.Join(&destination.Error{Cause: queue.Unreachable, Says: "the connection to " + l.o.Address +
			" was closed"}, closed(conn), client.Close())
	}
	l.conn, l.client, l.folders, l.mute = conn, client, map[string]bool{}, false
	l.made++
	l.watch(conn, client)
	return client, nil
}

// methods are the ways in which the driver may sign in: by the key, by the password.
func (l *line) methods() (methods []ssh.AuthMethod, err error) {
	if l.o.Key != nil {
		pem, err := l.o.Key()
		if err != nil {
			return nil, &destination.Error{Cause: queue.SignIn, Says: "the key cannot be read: " + err.Error()}
		}
		signer, err := ssh.ParsePrivateKey(pem)
		if err != nil { // the parser's message may hold parts of the key
			return nil, &destination.Error{Cause: queue.SignIn, Says: "the key file is not a private key without a passphrase"}
		}
		methods = append(methods, ssh.PublicKeys(signer))
	}
	if l.o.Password != nil {
		password, err := l.o.Password()
		if err != nil {
			return nil, &destination.Error{Cause: queue.SignIn, Says: "the password cannot be read: " + err.Error()}
		}
		// Many servers ask for it as a question (RFC 4256) instead.
		methods = append(methods, ssh.Password(password),
			ssh.KeyboardInteractive(func(_, _ string, questions []string, shown []bool) ([]string, error) {
				answers := make([]string, len(questions))
				for i := range answers {
					if !shown[i] { // what may be seen while it is typed is no password
						answers[i] = password
					}
				}
				return answers, nil
			}))
	}
	return methods, nil
}

// ask asks the server something that the library cannot be told to give up. A
// question that is given up ends with its connection, or when nothing moves on
// it for too long; Close waits for it.
func ask[T any](ctx context.Context, l *line, question func() (T, error)) (T, error) {
	type answer struct {
		v   T
		err error
	}
	answered := make(chan answer, 1)
	l.watching.Go(func() {
		v, err := question()
		answered <- answer{v, err}
	})
	select {
	case a := <-answered:
		return a.v, a.err
	case <-ctx.Done():
		var none T
		return none, context.Cause(ctx)
	}
}

// order is ask for what has no answer but that it was done.
func order(ctx context.Context, l *line, do func() error) error {
	_, err := ask(ctx, l, func() (struct{}, error) { return struct{}{}, do() })
	return err
}

// watch keeps a connection from ending while nothing is asked of it, and lets
// go of one that ended.
func (l *line) watch(conn *ssh.Client, client *sftp.Client) {
	ended := make(chan struct{})
	l.watching.Go(func() {
		_ = conn.Wait() // why it ended shows where it is used
		close(ended)
		l.drop(client)
	})
	l.watching.Go(func() {
		tick := time.NewTicker(l.o.Stall / 3)
		defer tick.Stop()
		for {
			select {
			case <-ended:
				return
			case <-tick.C:
				_, _, _ = conn.SendRequest("keepalive@openssh.com", true, nil) // any answer will do
			}
		}
	})
}

// drop lets go of a connection that was lost.
func (l *line) drop(client *sftp.Client) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.client == client {
		_ = l.conn.Close() // it is lost
		l.client, l.conn = nil, nil
	}
}

// hostKeyKinds are the kinds of host keys, the best first.
var hostKeyKinds = [][]string{
	{ssh.KeyAlgoED25519},
	{ssh.KeyAlgoECDSA256, ssh.KeyAlgoECDSA384, ssh.KeyAlgoECDSA521},
	{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256},
}

// dial connects and signs in, taking a host key of some kinds only.
func (l *line) dial(ctx context.Context, methods []ssh.AuthMethod, kinds []string) (*ssh.Client, error) {
	dialer := &net.Dialer{Timeout: 15 * time.Second}
	raw, err := dialer.DialContext(ctx, "tcp", l.o.Address)
	if err != nil {
		if why := context.Cause(ctx); why != nil {
			return nil, why
		}
		return nil, &destination.Error{Cause: queue.Unreachable, Says: l.o.Address + " does not answer", Err: err}
	}
	stop := context.AfterFunc(ctx, func() { _ = raw.Close() }) // ends the handshake
	config := &ssh.ClientConfig{User: l.o.User, Auth: methods, Timeout: 15 * time.Second, HostKeyCallback: l.identify,
		HostKeyAlgorithms: kinds}
	link, channels, requests, err := ssh.NewClientConn(watched{raw, l.o.Stall}, l.o.Address, config)
	if !stop() {
		if err == nil {
			err = link.Close()
		}
		return nil, errors.Join(context.Cause(ctx), err)
	}
	if err != nil {
		return nil, errors.Join(handshake(err, l.o.Address), closed(raw))
	}
	return ssh.NewClient(link, channels, requests), nil
}

// Peek tells the host key that the server at an address shows, as its kind and
// fingerprint. Nothing else is said to it.
func Peek(ctx context.Context, address string) (kind, fingerprint string, err error) {
	l := newLine(Options{Address: address})
	for _, kinds := range hostKeyKinds {
		_, err = l.dial(ctx, nil, kinds)
		var other identityError
		if errors.As(err, &other) {
			kind, fingerprint, _ = strings.Cut(other.seen, " ")
			return kind, fingerprint, nil
		}
		if destination.CauseOf(err) != queue.Misplaced { // it has no key of this kind
			break
		}
	}
	return "", "", err
}

// What is under way for one file: 16 packets of 128 KiB.
const (
	packet   = 128 << 10
	inFlight = 16
)

func (l *line) identify(_ string, _ net.Addr, key ssh.PublicKey) error {
	if seen := ssh.FingerprintSHA256(key); seen != l.o.HostKey {
		return identityError{key.Type() + " " + seen}
	}
	return nil
}

// handshake tells why signing in failed.
func handshake(err error, address string) error {
	var other identityError
	var op *net.OpError
	var none *ssh.AlgorithmNegotiationError
	switch {
	case errors.As(err, &none):
		return &destination.Error{Cause: queue.Misplaced, Says: address + " and this program have no way to talk in common",
			Err: err}
	case errors.As(err, &other):
		return &destination.Error{Cause: queue.Identity, Says: address + " is not the storage that the plan names: " +
			other.Error(), Err: other}
	case errors.As(err, &op), errors.Is(err, io.EOF), errors.Is(err, os.ErrDeadlineExceeded):
		return &destination.Error{Cause: queue.Unreachable, Says: "the connection to " + address + " was lost", Err: err}
	}
	return &destination.Error{Cause: queue.SignIn, Says: address + " refuses the user, the password or the key", Err: err}
}

func closed(c io.Closer) error {
	if err := c.Close(); err != nil && !errors.Is(err, net.ErrClosed) {
		return err
	}
	return nil
}

// watched ends a connection on which nothing moves.
type watched struct {
	net.Conn
	stall time.Duration
}

func (w watched) Read(p []byte) (int, error) {
	if err := w.SetReadDeadline(time.Now().Add(w.stall)); err != nil {
		return 0, err
	}
	return w.Conn.Read(p)
}

func (w watched) Write(p []byte) (int, error) {
	if err := w.SetWriteDeadline(time.Now().Add(w.stall)); err != nil {
		return 0, err
	}
	return w.Conn.Write(p)
}

// failure tells the cause of an error of the protocol, and lets go of a
// connection that was lost.
func (l *line) failure(ctx context.Context, client *sftp.Client, doing string, err error) error {
	return l.failureOf(ctx, client, doing, err, 0)
}

// failureOf is failure for what needs so many bytes of room.
func (l *line) failureOf(ctx context.Context, client *sftp.Client, doing string, err error, need int64) error {
	if why := context.Cause(ctx); why != nil {
		return why
	}
	var answer *sftp.StatusError
	var own *destination.Error
	switch {
	case errors.As(err, &own):
		return own
	case errors.Is(err, os.ErrNotExist):
		return errors.Join(destination.ErrNotFound, err)
	case errors.Is(err, os.ErrPermission):
		return &destination.Error{Cause: queue.SignIn, Says: "the storage does not permit " + doing, Err: err}
	case errors.As(err, &answer):
		e := &destination.Error{Cause: l.refusal(ctx, client, need), Says: doing + " failed at the storage", Err: err}
		if e.Cause == queue.Full {
			e.Says = "the storage is full"
		}
		return e
	}
	l.drop(client)
	return &destination.Error{Cause: queue.Unreachable, Says: "the connection to " + l.o.Address + " was lost", Err: err}
}

// refusal tells whether a failure without a reason comes from a full disk: the
// protocol has no word for it.
func (l *line) refusal(ctx context.Context, client *sftp.Client, need int64) queue.Cause {
	if s, err := ask(ctx, l, func() (*sftp.StatVFS, error) { return client.StatVFS(l.base()) }); err == nil &&
		int64(s.Bavail*s.Frsize) < max(need, 1<<16) {
		return queue.Full
	}
	return queue.Busy
}

func (l *line) base() string {
	if l.o.Path == "" {
		return "."
	}
	return l.o.Path
}

func (l *line) remote(p string) string { return path.Join(l.base(), p) }

// forget drops what is known of folders, after one was found missing.
func (l *line) forget() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.folders = map[string]bool{}
}
