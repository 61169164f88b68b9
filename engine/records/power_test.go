//go:build linux

package records_test

import (
	"bufio"
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/hanwen/go-fuse/v2/fs"
	"github.com/hanwen/go-fuse/v2/fuse"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/engine/records"
)

// disk is a small file system that keeps apart what was flushed: when the power
// goes, of what was written since only some is there.
type disk struct {
	fs.Inode
	mu    sync.Mutex
	files map[string]*diskFile
}

var (
	_ fs.NodeLookuper  = (*disk)(nil)
	_ fs.NodeCreater   = (*disk)(nil)
	_ fs.NodeUnlinker  = (*disk)(nil)
	_ fs.NodeReaddirer = (*disk)(nil)
)

func (d *disk) Lookup(ctx context.Context, name string, out *fuse.EntryOut) (*fs.Inode, syscall.Errno) {
	d.mu.Lock()
	f := d.files[name]
	d.mu.Unlock()
	if f == nil {
		return nil, syscall.ENOENT
	}
	f.attr(&out.Attr)
	return d.NewInode(ctx, f, fs.StableAttr{Mode: fuse.S_IFREG}), 0
}

func (d *disk) Create(ctx context.Context, name string, _, _ uint32,
	out *fuse.EntryOut) (*fs.Inode, fs.FileHandle, uint32, syscall.Errno) {
	f := &diskFile{}
	d.mu.Lock()
	d.files[name] = f
	d.mu.Unlock()
	f.attr(&out.Attr)
	return d.NewInode(ctx, f, fs.StableAttr{Mode: fuse.S_IFREG}), nil, 0, 0
}

func (d *disk) Unlink(_ context.Context, name string) syscall.Errno {
	d.mu.Lock()
	defer d.mu.Unlock()
	delete(d.files, name)
	return 0
}

func (d *disk) Readdir(context.Context) (fs.DirStream, syscall.Errno) {
	d.mu.Lock()
	defer d.mu.Unlock()
	var entries []fuse.DirEntry
	for name := range d.files {
		entries = append(entries, fuse.DirEntry{Name: name, Mode: fuse.S_IFREG})
	}
	return fs.NewListDirStream(entries), 0
}

// change is a write, or with none of it a cut, that was not flushed.
type change struct {
	at   int64
	data []byte
}

type diskFile struct {
	fs.Inode
	mu      sync.Mutex
	now     []byte
	flushed []byte
	since   []change
}

var (
	_ fs.NodeGetattrer = (*diskFile)(nil)
	_ fs.NodeSetattrer = (*diskFile)(nil)
	_ fs.NodeOpener    = (*diskFile)(nil)
	_ fs.NodeReader    = (*diskFile)(nil)
	_ fs.NodeWriter    = (*diskFile)(nil)
	_ fs.NodeFsyncer   = (*diskFile)(nil)
)

func (f *diskFile) attr(a *fuse.Attr) {
	f.mu.Lock()
	defer f.mu.Unlock()
	a.Mode, a.Size = fuse.S_IFREG|0o600, uint64(len(f.now))
}

func (f *diskFile) Getattr(_ context.Context, _ fs.FileHandle, out *fuse.AttrOut) syscall.Errno {
	f.attr(&out.Attr)
	return 0
}

func (f *diskFile) Setattr(_ context.Context, _ fs.FileHandle, in *fuse.SetAttrIn, out *fuse.AttrOut) syscall.Errno {
	if size, ok := in.GetSize(); ok {
		f.mu.Lock()
		f.now = apply(f.now, change{at: int64(size)})
		f.since = append(f.since, change{at: int64(size)})
		f.mu.Unlock()
	}
	f.attr(&out.Attr)
	return 0
}

func (f *diskFile) Open(context.Context, uint32) (fs.FileHandle, uint32, syscall.Errno) {
	return nil, 0, 0
}

func (f *diskFile) Read(_ context.Context, _ fs.FileHandle, p []byte, at int64) (fuse.ReadResult, syscall.Errno) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if at >= int64(len(f.now)) {
		return fuse.ReadResultData(nil), 0
	}
	return fuse.ReadResultData(append([]byte(nil), f.now[at:min(int64(len(f.now)), at+int64(len(p)))]...)), 0
}

func (f *diskFile) Write(_ context.Context, _ fs.FileHandle, p []byte, at int64) (uint32, syscall.Errno) {
	f.mu.Lock()
	defer f.mu.Unlock()
	c := change{at, append([]byte(nil), p...)}
	f.now, f.since = apply(f.now, c), append(f.since, c)
	return uint32(len(p)), 0
}

func (f *diskFile) Fsync(context.Context, fs.FileHandle, uint32) syscall.Errno {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.flushed, f.since = append([]byte(nil), f.now...), nil
	return 0
}

func apply(content []byte, c change) []byte {
	if c.data == nil {
		if int64(len(content)) > c.at {
			return append([]byte(nil), content[:c.at]...)
		}
		return append(append([]byte(nil), content...), make([]byte, c.at-int64(len(content)))...)
	}
	if grow := c.at + int64(len(c.data)) - int64(len(content)); grow > 0 {
		content = append(content, make([]byte, grow)...)
	}
	copy(content[c.at:], c.data)
	return content
}

// powerGoes writes what a disk holds after a loss of power to a folder: all that
// was flushed, and of what was written since, each page or not.
func (d *disk) powerGoes(t *testing.T, r *rand.Rand, dir string) (lost int) {
	t.Helper()
	const page = 512
	d.mu.Lock()
	defer d.mu.Unlock()
	for name, f := range d.files {
		if filepath.Ext(name) == ".db-shm" {
			continue // it is memory that processes share
		}
		f.mu.Lock()
		content := append([]byte(nil), f.flushed...)
		for _, c := range f.since {
			if c.data == nil {
				if r.IntN(2) == 0 {
					content = apply(content, c)
				}
				continue
			}
			for at := 0; at < len(c.data); at += page {
				if r.IntN(2) == 0 {
					content = apply(content, change{c.at + int64(at), c.data[at:min(len(c.data), at+page)]})
				} else {
					lost++
				}
			}
		}
		f.mu.Unlock()
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), content, 0o600))
	}
	return lost
}

// TestWriteUntilKilled is the process of the test below: it takes copies to safe
// and tells each as soon as that is on record.
func TestWriteUntilKilled(t *testing.T) {
	file := os.Getenv("YARDTIDE_RECORDS")
	if file == "" {
		t.Skip("it is run by another test")
	}
	r := fromNothing(t, file)
	admit(t, r, items(400, "a"))
	path, sum, proof, landed := "2026/a.jpg", "00", "read back", true
	for _, c := range page(t, r, queue.Waiting) {
		now := time.Now()
		require.NoError(t, r.Queue.Step(t.Context(), c.ID, queue.Sending, "", records.Change{}, now))
		require.NoError(t, r.Queue.Step(t.Context(), c.ID, queue.Proving, "",
			records.Change{Remote: &path, SHA256: &sum, Landed: &landed}, now))
		if c.ID%7 == 0 {
			ok, err := r.Ledger.Reserve(t.Context(), c.ID, onCellular, nil, 1000, now)
			require.NoError(t, err)
			require.True(t, ok)
			fmt.Println("reserved", c.ID)
		}
		require.NoError(t, r.Queue.Step(t.Context(), c.ID, queue.Safe, "", records.Change{Proof: &proof, ProvenAt: &now},
			now))
		fmt.Println("safe", c.ID)
	}
	fmt.Println("all")
	time.Sleep(time.Minute)
}

func TestWhatWasToldSafeIsSafeAfterThePowerWent(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("mounting a file system needs root")
	}
	if _, err := os.Stat("/dev/fuse"); err != nil {
		t.Skip("this system has no FUSE")
	}
	for seed := range uint64(8) {
		r := rand.New(rand.NewPCG(seed, 3))
		at, d := t.TempDir(), &disk{files: map[string]*diskFile{}}
		server, err := fs.Mount(at, d, &fs.Options{MountOptions: fuse.MountOptions{DirectMount: true,
			FsName: "yardtide-test"}})
		require.NoError(t, err)
		child := exec.Command(os.Args[0], "-test.run", "^TestWriteUntilKilled$", "-test.v")
		child.Env = append(os.Environ(), "YARDTIDE_RECORDS="+at+"/records.db")
		child.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
		out, err := child.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, child.Start())
		safe, reserved, until := []int64{}, 0, 1+r.IntN(120)
		lines := bufio.NewScanner(out)
		for len(safe) < until && lines.Scan() {
			var word string
			var id int64
			switch _, _ = fmt.Sscan(lines.Text(), &word, &id); word { // other lines are the test's own
			case "safe":
				safe = append(safe, id)
			case "reserved":
				reserved++
			}
		}
		require.Len(t, safe, until)
		require.NoError(t, child.Process.Kill())
		_ = child.Wait() // killed
		after := t.TempDir()
		lost := d.powerGoes(t, r, after)
		require.NoError(t, server.Unmount())

		file := open(t, after+"/records.db")
		for _, id := range safe {
			c, ok, err := file.Queue.Copy(t.Context(), id)
			require.NoError(t, err)
			require.True(t, ok)
			require.Equal(t, queue.Safe, c.State, "told safe, then the power went (%d writes lost)", lost)
			require.Equal(t, "read back", c.Proof)
		}
		a, err := file.Ledger.Account(t.Context(), plan.Cellular, time.Time{}, false)
		require.NoError(t, err)
		assert.GreaterOrEqual(t, a.Spent, int64(1000*reserved), "what was reserved counts")
	}
}
