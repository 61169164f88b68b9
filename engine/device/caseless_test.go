package device_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/hanwen/go-fuse/v2/fs"
	"github.com/hanwen/go-fuse/v2/fuse"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"yardtide/core/queue"
)

// caseless is a folder that tells no upper case from lower, as the disks of other systems. It
// keeps the name that a file was made with.
type caseless struct {
	fs.Inode
	mu       sync.Mutex
	children map[string]*named // by their name in lower case
}

type named struct {
	name  string
	inode *fs.Inode
}

func (d *caseless) Fsync(context.Context, fs.FileHandle, uint32) syscall.Errno { return 0 }

// inMemory is a file of such a folder.
type inMemory struct{ fs.MemRegularFile }

func (f *inMemory) Fsync(context.Context, fs.FileHandle, uint32) syscall.Errno { return 0 }

func (f *inMemory) Getattr(ctx context.Context, h fs.FileHandle, out *fuse.AttrOut) syscall.Errno {
	defer func() { out.Nlink = 1 }()
	return f.MemRegularFile.Getattr(ctx, h, out)
}

func newCaseless() *caseless { return &caseless{children: map[string]*named{}} }

func (d *caseless) child(name string) *fs.Inode {
	d.mu.Lock()
	defer d.mu.Unlock()
	if c := d.children[strings.ToLower(name)]; c != nil {
		return c.inode
	}
	return nil
}

func (d *caseless) keep(name string, inode *fs.Inode) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.children[strings.ToLower(name)] = &named{name, inode}
}

func (d *caseless) drop(name string) syscall.Errno {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.children[strings.ToLower(name)] == nil {
		return syscall.ENOENT
	}
	delete(d.children, strings.ToLower(name))
	return 0
}

func attributes(ctx context.Context, inode *fs.Inode, out *fuse.Attr) {
	var is fuse.AttrOut
	_ = inode.Operations().(fs.NodeGetattrer).Getattr(ctx, nil, &is) // one in memory never fails
	*out = is.Attr
	out.Mode |= inode.Mode()
	out.Ino = inode.StableAttr().Ino
}

func (d *caseless) Getattr(_ context.Context, _ fs.FileHandle, out *fuse.AttrOut) syscall.Errno {
	out.Mode = fuse.S_IFDIR | 0o755
	return 0
}

func (d *caseless) Lookup(ctx context.Context, name string, out *fuse.EntryOut) (*fs.Inode, syscall.Errno) {
	inode := d.child(name)
	if inode == nil {
		return nil, syscall.ENOENT
	}
	attributes(ctx, inode, &out.Attr)
	return inode, 0
}

func (d *caseless) Mkdir(ctx context.Context, name string, _ uint32, out *fuse.EntryOut) (*fs.Inode, syscall.Errno) {
	if d.child(name) != nil {
		return nil, syscall.EEXIST
	}
	inode := d.NewPersistentInode(ctx, newCaseless(), fs.StableAttr{Mode: fuse.S_IFDIR})
	d.keep(name, inode)
	attributes(ctx, inode, &out.Attr)
	return inode, 0
}

func (d *caseless) Create(ctx context.Context, name string, flags uint32, mode uint32,
	out *fuse.EntryOut) (*fs.Inode, fs.FileHandle, uint32, syscall.Errno) {
	if inode := d.child(name); inode != nil {
		if flags&syscall.O_EXCL != 0 {
			return nil, nil, 0, syscall.EEXIST
		}
		attributes(ctx, inode, &out.Attr)
		return inode, nil, 0, 0
	}
	file := &inMemory{fs.MemRegularFile{Attr: fuse.Attr{Mode: mode}}}
	inode := d.NewPersistentInode(ctx, file, fs.StableAttr{Mode: fuse.S_IFREG})
	d.keep(name, inode)
	attributes(ctx, inode, &out.Attr)
	return inode, nil, 0, 0
}

func (d *caseless) Unlink(_ context.Context, name string) syscall.Errno { return d.drop(name) }

func (d *caseless) Rmdir(_ context.Context, name string) syscall.Errno {
	inode := d.child(name)
	if inode == nil {
		return syscall.ENOENT
	}
	if of := inode.Operations().(*caseless); len(of.children) > 0 {
		return syscall.ENOTEMPTY
	}
	return d.drop(name)
}

func (d *caseless) Rename(_ context.Context, name string, to fs.InodeEmbedder, newName string,
	flags uint32) syscall.Errno {
	inode, into := d.child(name), to.(*caseless)
	if inode == nil {
		return syscall.ENOENT
	}
	if there := into.child(newName); there != nil && there != inode && flags&unix.RENAME_NOREPLACE != 0 {
		return syscall.EEXIST
	}
	if errno := d.drop(name); errno != 0 {
		return errno
	}
	into.keep(newName, inode)
	return 0
}

func (d *caseless) Readdir(context.Context) (fs.DirStream, syscall.Errno) {
	d.mu.Lock()
	defer d.mu.Unlock()
	var list []fuse.DirEntry
	for _, c := range d.children {
		list = append(list, fuse.DirEntry{Name: c.name, Mode: c.inode.Mode(), Ino: c.inode.StableAttr().Ino})
	}
	return fs.NewListDirStream(list), 0
}

// TestAPlaceThatIgnoresCase sends names that only differ in their case to a place where they are
// one name: nothing is written over, and each is safe.
func TestAPlaceThatIgnoresCase(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Skip("mounting a file system needs root")
	}
	b := quietBerth(t, "loft")
	server, err := fs.Mount(b.path, newCaseless(), &fs.Options{MountOptions: fuse.MountOptions{DirectMount: true}})
	require.NoError(t, err)
	t.Cleanup(func() { // a service of another test may look at what is mounted for a moment
		assert.Eventually(t, func() bool { return server.Unmount() == nil }, time.Minute, 50*time.Millisecond)
	})
	require.NoError(t, os.Mkdir(b.path+"/2026", 0o755))
	require.NoError(t, os.WriteFile(b.path+"/2026/somebody's.TXT", []byte("theirs"), 0o644))
	names := []string{"Keel.jpg", "keel.jpg", "KEEL.JPG", "kEEL.jpg", "Mast.jpg", "more/mast.JPG"}
	require.NoError(t, os.Mkdir(b.dir+"/phone/DCIM/more", 0o755))
	for _, name := range names {
		b.picture(name)
	}
	b.start()
	defer func() { b.stop() }()
	b.until("all are safe", counts(queue.Safe, int64(len(names))))
	want, there := contents(t, b.dir+"/phone/DCIM"), contents(t, b.path)
	for content, file := range want {
		assert.Contains(t, there, content, "%s is not there", file)
	}
	assert.Len(t, there, len(names)+1, "one each, and what was there before")
	assert.Contains(t, there, "theirs")

	// What is found there later is not taken for what is safe under the other spelling.
	b.stop()
	b.start()
	b.picture("KEEL.jpg")
	b.until("one more is safe", counts(queue.Safe, int64(len(names))+1))
	assert.Len(t, contents(t, b.path), len(names)+2)
}

// contents are the files below a folder by their content, without what Yard Tide keeps there.
func contents(t *testing.T, root string) map[string]string {
	t.Helper()
	all := map[string]string{}
	require.NoError(t, filepath.WalkDir(root, func(path string, e os.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			if err == nil && (e.Name() == ".yardtide" || e.Name() == "records") {
				return filepath.SkipDir
			}
			return err
		}
		content, err := os.ReadFile(path)
		if !strings.HasPrefix(e.Name(), ".yardtide") {
			all[string(content)] = path
		}
		return err
	}))
	return all
}
