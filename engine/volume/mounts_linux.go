package volume

import (
	"context"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// Mounted lists what is mounted on this machine: disks, and what a desktop shows of phones on a cable.
type Mounted struct{}

const mountinfo = "/proc/self/mountinfo"

// Changed implements Lister: the kernel wakes who polls the table of mounts (proc(5)). A kernel here lost word of every
// other mount, and of what a desktop mounts below one of its own mounts none tells: both are compared every second.
func (Mounted) Changed(ctx context.Context) {
	f, err := os.Open(mountinfo)
	if err != nil {
		select {
		case <-ctx.Done():
		case <-time.After(4 * beat):
		}
		return
	}
	defer f.Close()
	before := shown(f)
	fds := []unix.PollFd{{Fd: int32(f.Fd()), Events: unix.POLLPRI | unix.POLLERR}}
	for ctx.Err() == nil {
		n, err := unix.Poll(fds, int(4*beat.Milliseconds()))
		if n > 0 || err != nil && err != unix.EINTR || shown(f) != before {
			return
		}
	}
}

// List implements Lister.
func (Mounted) List() []Volume {
	text, err := os.ReadFile(mountinfo)
	if err != nil {
		return nil
	}
	var list []Volume
	seen := map[string]bool{}
	for line := range strings.Lines(string(text)) {
		m, ok := parse(line)
		if !ok || seen[m.device] {
			continue // what is mounted at several places is one
		}
		seen[m.device] = true
		if m.kind == "fuse.gvfsd-fuse" {
			list = append(list, phones(m.root)...)
			continue
		}
		if !filed(m.kind) || Camera(m.root) == "" { // most are looked at no further
			continue
		}
		if id := identity(m); id != "" {
			list = append(list, Volume{ID: id, Label: label(m), Root: m.root})
		}
	}
	return sound(list)
}

// mount is a line of the table of mounts.
type mount struct{ root, kind, device, from string }

// parse reads a line of /proc/self/mountinfo (proc_pid_mountinfo(5)).
func parse(line string) (m mount, ok bool) {
	own, after, ok := strings.Cut(strings.TrimSpace(line), " - ")
	fields, rest := strings.Fields(own), strings.Fields(after)
	if !ok || len(fields) < 5 || len(rest) < 2 || fields[3] != "/" { // a part of a file system is no volume
		return m, false
	}
	m = mount{unescape(fields[4]), rest[0], fields[2], unescape(rest[1])}
	return m, m.root != "/"
}

// unescape reads the octal numbers that stand for blanks and the like.
func unescape(s string) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] == '\\' && i+3 < len(s) {
			if n, err := strconv.ParseUint(s[i+1:i+4], 8, 8); err == nil {
				b.WriteByte(byte(n))
				i += 3
				continue
			}
		}
		b.WriteByte(s[i])
	}
	return b.String()
}

// filed tells file systems that hold files of people. Shares and programs that show themselves as file systems are not
// opened: they may hang, and whoever unmounts one would find it in use.
func filed(kind string) bool {
	switch kind {
	case "vfat", "exfat", "msdos", "ntfs", "ntfs3", "fuseblk", "ext2", "ext3", "ext4", "xfs", "btrfs", "f2fs", "hfsplus", "udf",
		"iso9660", "tmpfs":
		return true
	}
	return false
}

// identity is a file system's own: what it says itself, what udev or its first bytes tell; "" where nothing does.
func identity(m mount) string {
	if id := fsUUID(m.root); id != "" {
		return id
	}
	if id := byUUID(m.from); id != "" {
		return id
	}
	return serial(m.from)
}

// fsUUID asks the file system (FS_IOC_GETFSUUID, linux/fs.h, from Linux 6.9 on).
func fsUUID(root string) string {
	const getFSUUID = 0x80111500 // _IOR(0x15, 0, struct fsuuid2)
	f, err := os.Open(root)
	if err != nil {
		return ""
	}
	defer f.Close()
	var is struct {
		Len  byte
		UUID [16]byte
	}
	if _, _, errno := unix.Syscall(unix.SYS_IOCTL, f.Fd(), getFSUUID, uintptr(unsafe.Pointer(&is))); errno != 0 {
		return btrfsUUID(f)
	}
	n := min(int(is.Len), len(is.UUID))
	switch {
	case n == 16:
		return inGroups(is.UUID)
	case n >= 4:
		return hex.EncodeToString(is.UUID[:n])
	}
	return ""
}

// btrfsUUID asks a btrfs, which does not answer the general question (BTRFS_IOC_FS_INFO, linux/btrfs.h).
func btrfsUUID(f *os.File) string {
	const fsInfo = 0x8400941f // _IOR(0x94, 31, struct btrfs_ioctl_fs_info_args)
	var is struct {
		MaxID, Devices uint64
		UUID           [16]byte
		_              [992]byte
	}
	if _, _, errno := unix.Syscall(unix.SYS_IOCTL, f.Fd(), fsInfo, uintptr(unsafe.Pointer(&is))); errno != 0 {
		return ""
	}
	return inGroups(is.UUID)
}

// inGroups writes an identity as programs do (RFC 9562, section 4).
func inGroups(u [16]byte) string {
	return fmt.Sprintf("%x-%x-%x-%x-%x", u[:4], u[4:6], u[6:8], u[8:10], u[10:])
}

// byUUID finds a device among the links that udev keeps.
func byUUID(device string) string {
	const links = "/dev/disk/by-uuid"
	list, err := os.ReadDir(links)
	if err != nil {
		return ""
	}
	for _, e := range list {
		if to, err := filepath.EvalSymlinks(filepath.Join(links, e.Name())); err == nil && to == device {
			return e.Name()
		}
	}
	return ""
}

// serial reads the number of a FAT or exFAT volume from its first sector (Microsoft FAT 1.03, 3.1; exFAT 1.00, 3.1.11),
// where that may be read.
func serial(device string) string {
	f, err := os.Open(device)
	if err != nil {
		return ""
	}
	defer f.Close()
	b := make([]byte, 512)
	if _, err := io.ReadFull(f, b); err != nil || b[510] != 0x55 || b[511] != 0xAA {
		return ""
	}
	at := 0
	switch {
	case string(b[3:11]) == "EXFAT   ":
		at = 100
	case string(b[82:87]) == "FAT32":
		at = 67
	case string(b[54:57]) == "FAT":
		at = 39
	default:
		return ""
	}
	n := binary.LittleEndian.Uint32(b[at:])
	return fmt.Sprintf("%04X-%04X", n>>16, n&0xFFFF)
}

// label is what a volume is called: the name under which it is mounted.
func label(m mount) string { return filepath.Base(m.root) }

// phones are the storages of phones on a cable below the mount of a desktop.
func phones(root string) (list []Volume) {
	hosts, err := os.ReadDir(root)
	if err != nil {
		return nil
	}
	for _, h := range hosts {
		storages, err := os.ReadDir(filepath.Join(root, h.Name()))
		if err != nil {
			continue
		}
		_, name, found := strings.Cut(h.Name(), "host=")
		if !found {
			continue
		}
		for _, s := range storages {
			at := filepath.Join(root, h.Name(), s.Name())
			if s.IsDir() && Camera(at) != "" {
				list = append(list, Volume{ID: idOf(name + "-" + s.Name()), Label: name, Root: at})
			}
		}
	}
	return list
}

// shown is what is mounted now, and what the mounts of desktops hold.
func shown(table *os.File) string {
	var all strings.Builder
	if _, err := table.Seek(0, io.SeekStart); err == nil {
		_, _ = io.Copy(&all, table) // what cannot be read tells of no change
	}
	below, _ := filepath.Glob("/run/user/*/gvfs/*")
	return all.String() + strings.Join(below, "\n")
}
