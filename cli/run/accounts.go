//go:build linux

package run

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"syscall"
	"time"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"

	"yardtide/cli"
	"yardtide/core/plan"
	"yardtide/engine/link"
	"yardtide/service"
	"yardtide/service/api"
)

// This file runs one computer of several people: a worker for each account, under that
// account's own uid, an ordinary device that calls by a socket. None can read another's
// files, nor learns their names.

// accounts runs a worker for each until the context ends. homes holds their home folders
// where the system's are not meant.
func accounts(ctx context.Context, s *service.Service, computer string, names []string, runDir, homes string,
	log *slog.Logger) (err error) {
	if os.Getuid() != 0 {
		// What lets this process take another's uid must not come down to the workers
		// (capabilities(7): an ambient set outlives exec).
		if _, _, errno := syscall.AllThreadsSyscall6(syscall.SYS_PRCTL, unix.PR_CAP_AMBIENT, unix.PR_CAP_AMBIENT_CLEAR_ALL,
			0, 0, 0, 0); errno != 0 && errno != syscall.EINVAL {
			return fmt.Errorf("giving up what the workers must not have: %w", errno)
		}
	}
	if err := os.MkdirAll(runDir, 0o755); err != nil {
		return fmt.Errorf("making the folder of the socket: %w", err)
	}
	socket := filepath.Join(runDir, "link.sock")
	if err := os.Remove(socket); err != nil && !errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("removing an old socket: %w", err)
	}
	l, err := net.Listen("unix", socket)
	if err != nil {
		return fmt.Errorf("listening for the accounts of this computer: %w", err)
	}
	if err := os.Chmod(socket, 0o666); err != nil { // who has no token is not answered
		return errors.Join(fmt.Errorf("opening the socket to the accounts: %w", err), l.Close())
	}
	ownPlaces(s.Book.Plan(), computer, names, log)
	g, ctx := errgroup.WithContext(ctx)
	g.Go(func() error { return api.NewHome(s, nil, log).Serve(ctx, l) })
	for _, name := range names {
		w, err := workerOf(name, homes)
		if err != nil {
			return errors.Join(err, l.Close())
		}
		w.device = computer + "-" + name
		g.Go(func() error { return w.keep(ctx, s, socket, log) })
	}
	return g.Wait()
}

// worker is one account's.
type worker struct {
	device     string
	home, data string
	uid, gid   uint32
	groups     []uint32
}

func workerOf(name, homes string) (w worker, err error) {
	u, err := user.Lookup(name)
	if err != nil {
		return w, fmt.Errorf("looking up the account %q: %w", name, err)
	}
	number := func(s string) uint32 { n, _ := strconv.ParseUint(s, 10, 32); return uint32(n) } // the system's own
	w.uid, w.gid, w.home = number(u.Uid), number(u.Gid), u.HomeDir
	if w.uid == 0 {
		return w, fmt.Errorf("the account %q is the system's own; a worker runs for a person", name)
	}
	ids, err := u.GroupIds()
	if err != nil {
		return w, fmt.Errorf("looking up the groups of %q: %w", name, err)
	}
	for _, id := range ids {
		w.groups = append(w.groups, number(id))
	}
	if homes != "" {
		w.home = filepath.Join(homes, name)
	}
	w.data = filepath.Join(w.home, ".local", "share", "yardtide")
	return w, nil
}

// ownPlaces makes the folders each account's own, that a plan has its copies go to and nobody
// else's: a folder that the system's own account made could be written by nobody else, and read
// by everybody.
func ownPlaces(p *plan.Plan, computer string, names []string, log *slog.Logger) {
	if p == nil || os.Getuid() != 0 {
		return
	}
	for _, account := range names {
		w, err := workerOf(account, "")
		if err != nil {
			continue // starting its worker says why
		}
		device := computer + "-" + account
		for name, d := range p.Destinations {
			others := slices.ContainsFunc(slices.Collect(maps.Keys(p.Devices)),
				func(o string) bool { return o != device && p.SendsTo(o, name) })
			if d.Kind != plan.Folder || others || !p.SendsTo(device, name) {
				continue
			}
			if err := w.own(d.Path); err != nil {
				log.Warn("a place could not be made its person's", "device", device, "destination", name, "err", err)
			}
		}
	}
}

// own gives a folder of the system's own account to the person, and shuts it for others. A link
// is not followed, and what is somebody's already stays theirs.
func (w worker) own(folder string) error {
	f, err := os.OpenFile(folder, os.O_RDONLY|syscall.O_DIRECTORY|syscall.O_NOFOLLOW|syscall.O_NONBLOCK, 0)
	if errors.Is(err, os.ErrNotExist) {
		return nil // a disk that is not mounted
	}
	if err != nil {
		return fmt.Errorf("opening the place: %w", err)
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return fmt.Errorf("looking at the place: %w", err)
	}
	if st, known := info.Sys().(*syscall.Stat_t); !known || st.Uid != 0 {
		return nil
	}
	if err := f.Chmod(0o700); err != nil {
		return fmt.Errorf("shutting the place for others: %w", err)
	}
	if err := f.Chown(int(w.uid), int(w.gid)); err != nil {
		return fmt.Errorf("giving the place to its person: %w", err)
	}
	return nil
}

// workerAgain is how long after a worker ended it begins anew.
const workerAgain = 5 * time.Second

// keep runs the worker, again and again.
func (w worker) keep(ctx context.Context, s *service.Service, socket string, log *slog.Logger) error {
	for ctx.Err() == nil {
		if err := w.run(ctx, s, socket); err != nil && ctx.Err() == nil {
			log.Error("an account's worker ended; it begins anew", "device", w.device, "err", err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(workerAgain):
		}
	}
	return nil
}

func (w worker) run(ctx context.Context, s *service.Service, socket string) error {
	code, err := s.Household.LocalCode(w.device, socket, time.Now())
	if err != nil {
		return err
	}
	text, err := json.Marshal(code)
	if err != nil {
		return fmt.Errorf("writing the code: %w", err)
	}
	cmd := exec.CommandContext(ctx, "/proc/self/exe", "device", "account", "-data", w.data, "-root", w.home, "-listen",
		"127.0.0.1:0")
	cmd.Env = []string{"HOME=" + w.home, "PATH=/usr/local/bin:/usr/bin:/bin", "LANG=" + os.Getenv("LANG"),
		"TZ=" + os.Getenv("TZ")}
	cmd.Dir, cmd.Stderr = "/", os.Stderr
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: w.uid, Gid: w.gid, Groups: w.groups}}
	in, err := cmd.StdinPipe() // it ends with this, however this process ends
	if err != nil {
		return err
	}
	// A signal to another's process may not be permitted.
	cmd.Cancel, cmd.WaitDelay = in.Close, 8*time.Second
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("starting the worker: %w", err)
	}
	if _, err := in.Write(append(text, '\n')); err != nil {
		return errors.Join(fmt.Errorf("telling the worker its code: %w", err), cmd.Wait())
	}
	return cmd.Wait()
}

// account is the worker: it reads its code, joins if it has not yet, and runs while its
// input lasts.
func (h runsHere) account(ctx context.Context, e cli.Env, args []string) error {
	if err := cli.NoArguments(args); err != nil {
		return err
	}
	var code link.Code
	read := json.NewDecoder(io.LimitReader(e.In, 4096))
	if err := read.Decode(&code); err != nil {
		return fmt.Errorf("reading the code of this account: %w", err)
	}
	joined, err := service.ReadJoined(h.data)
	if err != nil {
		return err
	}
	if joined == nil || joined.Home.Pin != code.Pin || joined.Home.Address != code.Address {
		if _, err := service.JoinHome(ctx, h.data, code, api.Version); err != nil {
			return err
		}
	}
	h.attached = true
	return h.run(ctx, e, nil)
}
