package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/standin/apache"
	"yardtide/standin/gateway"
	"yardtide/standin/server"
	"yardtide/standin/sshd"
	"yardtide/wire"
)

// The secrets of these tests: nowhere may they be read again.
const (
	davPassword = "mud-and-tide-7"
	s3Password  = "spring-tide-99"
)

// withInput runs a command with something on its standard input.
func (s *service) withInput(input string, args ...string) (out, errOut string, code int) {
	s.t.Helper()
	cmd := exec.Command(binary, args...)
	var o, e bytes.Buffer
	cmd.Stdin, cmd.Stdout, cmd.Stderr = strings.NewReader(input), &o, &e
	cmd.Env = append(os.Environ(), "YARDTIDE_URL="+s.url, "YARDTIDE_TOKEN="+s.token())
	err := cmd.Run()
	if cmd.ProcessState == nil {
		require.NoError(s.t, err)
	}
	return o.String(), e.String(), cmd.ProcessState.ExitCode()
}

// bare serves a computer without a plan.
func bare(t *testing.T, dir string) *service {
	t.Helper()
	require.NoError(t, os.MkdirAll(dir+"/Pictures", 0o755))
	addr := freePort(t)
	s := &service{t: t, url: "http://" + addr, data: dir + "/data",
		args: []string{"serve", "-data", dir + "/data", "-listen", addr, "-device", "desk", "-root", dir}}
	s.start()
	t.Cleanup(s.stop)
	return s
}

// files lists what lies below a folder.
func files(t *testing.T, root string) []string {
	t.Helper()
	var all []string
	require.NoError(t, filepath.WalkDir(root, func(p string, _ fs.DirEntry, err error) error {
		all = append(all, p)
		return err
	}))
	return all
}

// withoutTurns leaves out whose turn it was to put something in place.
func withoutTurns(files []string) []string {
	return slices.DeleteFunc(files, func(p string) bool { return strings.Contains(p, "/.yardtide/turns/") })
}

func TestTheKeeperSetsDestinationsUp(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := bare(t, dir)

	// The first step of all: say where things go. There is no plan yet.
	out := s.ok("destination", "list")
	assert.Contains(t, out, "There is no destination yet")
	_, errOut, code := s.run("destination", "add", "loft", "-kind", "folder", "-path", dir+"/loft")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "loft was not added")
	assert.NoDirExists(t, dir+"/loft", "it is not made unasked")
	out = s.ok("destination", "add", "loft", "-kind", "folder", "-path", dir+"/loft", "-make", "-keep-free", "1MB")
	assert.Contains(t, out, "loft is in the plan.")
	assert.DirExists(t, dir+"/loft")
	assert.Contains(t, s.ok("plan", "show"), "keep-free: 1 MB")
	pictures(t, dir+"/Pictures/..", "x", 0)
	one, err := os.ReadFile("../docs/screenshots/now.png")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(dir+"/Pictures/now.png", one, 0o644))
	past := time.Now().Add(-time.Hour)
	require.NoError(t, os.Chtimes(dir+"/Pictures/now.png", past, past))
	s.until("the first plan works", func(y wire.Yard) bool { return total(y, queue.Safe) == 1 })

	// SSH: the host key is shown, and asked about.
	shed, err := sshd.Start(t.Context(), t.TempDir(), sshd.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, shed.Close()) })
	at := t.TempDir()
	add := []string{"destination", "add", "shed", "-kind", "sftp", "-address", shed.Address, "-user", shed.User,
		"-key-file", shed.KeyFile, "-path", at + "/new/yard", "-make"}
	out, errOut, code = s.withInput("no\n", add...)
	assert.Equal(t, 1, code)
	assert.Contains(t, out, shed.HostKey)
	assert.Contains(t, errOut, "-trust "+shed.HostKey)
	_, errOut, code = s.withInput("", append(add, "-trust", "SHA256:somebodyelse")...)
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "which is not the fingerprint after -trust")
	out, errOut, code = s.withInput("yes\n", add...)
	require.Zero(t, code, "%s%s", out, errOut)
	assert.Contains(t, out, "No rule sends there yet")
	assert.DirExists(t, at+"/new/yard")
	assert.Contains(t, s.ok("plan", "show"), shed.HostKey)

	// WebDAV over https with a certificate of the household's own.
	authority, cert, dav := secured(t)
	add = []string{"destination", "add", "locker", "-kind", "webdav", "-address", dav.URL, "-user", "slip",
		"-password-stdin"}
	_, errOut, code = s.withInput("wrong\n", append(add, "-authority", authority.File)...)
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "locker was not added")
	out, errOut, code = s.withInput(davPassword+"\nyes\n", add...)
	require.Zero(t, code, "%s%s", out, errOut)
	fingerprint := fmt.Sprintf("SHA256:%x", cert.Fingerprint)
	assert.Contains(t, out, fingerprint)
	assert.Contains(t, s.ok("plan", "show"), fingerprint)

	// A bucket.
	g := &gateway.Server{Root: t.TempDir(), User: "slip", Password: s3Password}
	require.NoError(t, g.Start(t.Context(), "sail-loft"))
	t.Cleanup(func() { assert.NoError(t, g.Close()) })
	add = []string{"destination", "add", "bucket", "-kind", "s3", "-address", g.Endpoint, "-user", "slip",
		"-password-stdin", "-bucket"}
	_, errOut, code = s.withInput(s3Password+"\n", append(add, "no-such")...)
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "not added")
	_, errOut, code = s.withInput(s3Password+"\n", append(add, "sail-loft")...)
	require.Zero(t, code, errOut)

	// Each is tried again, and the trial leaves nothing behind.
	for name, root := range map[string]string{"loft": dir + "/loft", "shed": at, "locker": dav.Root,
		"bucket": g.Files("sail-loft")} {
		require.Eventually(t, func() bool { // a device marks each place that it sends to, soon
			return name != "loft" || slices.ContainsFunc(files(t, root),
				func(p string) bool { return strings.HasSuffix(p, "/"+destination.MarkerName) })
		}, time.Minute, 50*time.Millisecond, name)
		before := withoutTurns(files(t, root))
		out := s.ok("destination", "test", name)
		for _, step := range []string{"write", "read back", "rename", "no overwrite", "resume", "free space", "tidied"} {
			assert.Contains(t, out, step, name)
		}
		assert.Equal(t, before, withoutTurns(files(t, root)), name)
	}
	out, errOut, code = s.run("destination", "browse", "new", "-kind", "sftp", "-address", shed.Address, "-user",
		shed.User, "-key-file", shed.KeyFile, "-trust", shed.HostKey, "-path", at)
	require.Zero(t, code, errOut)
	assert.Equal(t, "yard/\n", out)

	// The storage changes its password: the test says so.
	require.NoError(t, dav.SetPassword(apache.Options{User: "slip", Password: "another"}))
	out, _, code = s.run("destination", "test", "locker")
	assert.Equal(t, 1, code)
	assert.Regexp(t, `no  sign-in +The storage refuses the user or the password\.`, out)
	assert.Contains(t, out, "Check the user and the password")

	// What rules send to stays; the rest goes, with its secret.
	_, errOut, code = s.run("destination", "remove", "loft")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "the rule everything sends to")
	assert.FileExists(t, dir+"/data/secrets/password/locker.age")
	s.ok("destination", "remove", "locker")
	assert.NoFileExists(t, dir+"/data/secrets/password/locker.age")
	assert.NotContains(t, s.ok("destination", "list"), "locker")
	_, errOut, code = s.run("destination", "show", "locker")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "it has bucket, loft, shed")

	// The secrets are nowhere to be read.
	info, err := os.Stat(dir + "/data/secrets.key")
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	key, err := os.ReadFile(shed.KeyFile)
	require.NoError(t, err)
	status, err := json.Marshal(s.yard())
	require.NoError(t, err)
	answers := string(status) + s.ok("destination", "show", "bucket", "-json") + s.ok("plan", "show") + s.log.String()
	for _, p := range files(t, dir+"/data") {
		if info, err := os.Stat(p); err == nil && info.Mode().IsRegular() {
			content, err := os.ReadFile(p)
			require.NoError(t, err)
			answers += string(content)
		}
	}
	for _, secret := range []string{davPassword, s3Password, strings.Split(string(key), "\n")[1]} {
		assert.NotContains(t, answers, secret)
	}
}

func TestBadSetUpsAreRefused(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := desk(t, dir, dir+"/data")
	for name, c := range map[string]struct {
		args []string
		code int
		says string
	}{
		"no kind":        {[]string{"add", "x"}, 2, `-kind is folder, webdav, sftp or s3, and not ""`},
		"no name":        {[]string{"add"}, 2, "name one destination"},
		"a bad name":     {[]string{"add", "a b", "-kind", "folder", "-path", dir}, 1, `"a b" cannot be the name`},
		"taken":          {[]string{"add", "disk", "-kind", "folder", "-path", dir}, 1, `has a destination "disk" already`},
		"a bad size":     {[]string{"add", "x", "-kind", "folder", "-path", dir, "-size", "big"}, 2, `"big" is not a size`},
		"nobody there":   {[]string{"add", "x", "-kind", "webdav", "-address", "http://127.0.0.1:1/"}, 1, "not added"},
		"no address":     {[]string{"add", "x", "-kind", "webdav", "-address", "locker"}, 1, `"locker" is not a web address`},
		"no such test":   {[]string{"test", "x"}, 1, `no destination "x"; it has disk`},
		"no such verb":   {[]string{"polish", "x"}, 2, `there is no "polish"`},
		"no such adopt":  {[]string{"adopt", "x"}, 1, "it has disk"},
		"no such remove": {[]string{"remove", "x"}, 1, "it has disk"},
	} {
		t.Run(name, func(t *testing.T) {
			out, errOut, code := s.run(append([]string{"destination"}, c.args...)...)
			assert.Equal(t, c.code, code, errOut)
			assert.Contains(t, out+errOut, c.says)
		})
	}
	for _, args := range [][]string{{"prove"}, {"prove", "-all", "-sample", "3"}, {"prove", "-sample", "-1"}} {
		_, errOut, code := s.run(args...)
		assert.Equal(t, 2, code)
		assert.Contains(t, errOut, "say -all, or -sample")
	}
}

func TestProveFromTheCommandLine(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := desk(t, dir, dir+"/data")
	pictures(t, dir, "a", 5)
	s.until("safe", func(y wire.Yard) bool { return total(y, queue.Safe) == 5 })
	out := s.ok("prove", "-all")
	assert.Contains(t, out, "5 proofs to take again.")
	assert.Contains(t, out, "All of it is what was proven.")
	require.NoError(t, os.Remove(dir+"/disk/2026/01/a-003.jpg"))
	_, errOut, code := s.run("prove", "-all", "-destination", "disk")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "1 copy is no longer what was proven")
	assert.Contains(t, s.ok("queue", "-state", "stuck"), "Retry sends it again while the file is on the device.")
	s.ok("retry")
	s.until("sent again", func(y wire.Yard) bool { return total(y, queue.Safe) == 5 })
	assert.FileExists(t, dir+"/disk/2026/01/a-003.jpg")
	assert.Contains(t, s.ok("prove", "-sample", "2"), "2 proofs to take again.")
}

// Long work goes on without who began it, over a kill of the service too, until it is
// done or stopped.
func TestJobsOutliveWhoBeganThem(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := desk(t, dir, dir+"/data")
	assert.Contains(t, s.ok("jobs"), "No job runs, and none ended lately.")
	pictures(t, dir, "a", 5)
	s.until("safe", func(y wire.Yard) bool { return total(y, queue.Safe) == 5 })
	s.ok("pause")
	out := s.ok("prove", "-all")
	assert.Contains(t, out, "5 wait until the network costs nothing, a pause ends, or the storage answers.")
	assert.Regexp(t, `running +Proofs taken again, since`, s.ok("jobs"))
	s.kill()
	s.start()
	assert.Regexp(t, `1 +running +Proofs taken again, since`, s.ok("jobs"), "it goes on after a start")
	assert.Contains(t, s.ok("jobs", "stop", "1"), "Proofs taken again: Stopped by you.")
	s.ok("resume")
	assert.Contains(t, s.ok("prove", "-all", "-destination", "disk"), "All of it is what was proven.",
		"those that were stopped are no longer owed")
	assert.Contains(t, s.ok("destination", "adopt", "disk"), "disk holds 0 files (0 B) that Yard Tide did not put there.")
	assert.Contains(t, s.ok("destination", "test", "disk"), "Nothing of the trial is left.")
	list := s.ok("jobs")
	for _, line := range []string{"Trial of disk", "Listing of what was at disk", "Proofs taken again at disk",
		"stopped  Proofs taken again"} {
		assert.Contains(t, list, line)
	}
	_, errOut, code := s.run("jobs", "stop", "77")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, `There is no job "77"`)
	_, errOut, code = s.run("jobs", "stop")
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, "the number of a job")
}

func TestTheKeeperSetsADestinationUpAtTheConsole(t *testing.T) {
	dir := t.TempDir()
	s := bare(t, dir)
	k := atTheConsole(t, s)
	k.click("Destinations")
	k.sees("The first step: say where your pictures go")
	k.click("Add a destination", "Choose a folder", strings.Split(dir, "/")[1])
	k.sees("/" + strings.Split(dir, "/")[1])
	k.click("A disk or folder")
	require.NoError(t, k.b.Type("Name", "loft"))
	require.NoError(t, k.b.Type("Folder", dir+"/loft"))
	k.click("Test it")
	k.sees("It does not work yet.", "it can be made")
	require.NoError(t, os.MkdirAll(dir+"/loft", 0o755))
	k.click("Test it")
	k.sees("It works, and nothing of the trial is left there.", "Put it into the plan")
	k.click("Put it into the plan")
	k.gone("Put it into the plan")
	k.sees("folder, "+dir+"/loft", "Nothing waits.")
	assert.Contains(t, s.ok("plan", "show"), "loft")

	// SSH: the page shows the host key and asks.
	shed, err := sshd.Start(t.Context(), t.TempDir(), sshd.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, shed.Close()) })
	k.click("Add a destination", "A box on my network")
	for label, text := range map[string]string{"Name": "shed", "Address": shed.Address, "User": shed.User,
		"Folder": t.TempDir(), "Private key": string(shed.Key)} {
		require.NoError(t, k.b.Type(label, text))
	}
	k.click("Test it")
	k.sees("shows the host key", shed.HostKey)
	k.click("Trust it and go on")
	k.sees("It works, and nothing of the trial is left there.")
	k.click("Put it into the plan")
	k.gone("Put it into the plan") // nobody can reach what lies behind a dialog
	k.sees("sftp, " + shed.User)
	k.click("Remove shed", "Take it out of the plan")
	s.until("it left the plan", func(y wire.Yard) bool { return len(y.Destinations) == 1 })
	assert.Empty(t, k.b.Complaints())
}

// secured starts a WebDAV storage over https with a certificate of the household's own.
func secured(t *testing.T) (*server.Authority, server.Certificate, *apache.Server) {
	t.Helper()
	certs := t.TempDir()
	authority, err := server.NewAuthority(certs)
	require.NoError(t, err)
	cert, err := authority.Certify(certs, time.Now().Add(time.Hour))
	require.NoError(t, err)
	dav, err := apache.Start(t.Context(), t.TempDir(), apache.Options{User: "slip", Password: davPassword,
		Certificate: cert})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, dav.Close()) })
	return authority, cert, dav
}
