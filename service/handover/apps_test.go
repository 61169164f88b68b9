package handover_test

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"yardtide/wire/phonewire"
)

// This file has real programs hand over. docs/conformance.md tells what each was seen to do.

// app runs a program of an app's kind and returns what it said.
func app(t *testing.T, dir, input string, args ...string) (string, error) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, args[0], args[1:]...)
	cmd.Dir, cmd.Stdin = dir, strings.NewReader(input)
	cmd.Env = append(os.Environ(), "HOME="+dir)
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	err := cmd.Run()
	return out.String(), err
}

func TestCurlHandsOver(t *testing.T) {
	t.Parallel()
	y := newYard(t)
	keys := y.add("toms-phone")
	dir := t.TempDir()
	is := content(400_000, 3)
	require.NoError(t, os.WriteFile(dir+"/boat.jpg", []byte(is), 0o644))
	curl := func(args ...string) string {
		out, err := app(t, dir, "", append([]string{"curl", "-s", "-w", "%{http_code}", "-u", "toms-phone:" + keys.App}, args...)...)
		require.NoError(t, err, out)
		return out
	}
	assert.Contains(t, curl("-X", "MKCOL", y.at+"/dav/June/"), "201")
	assert.Contains(t, curl("-T", "boat.jpg", y.at+"/dav/June/boat.jpg"), "201")
	assert.Contains(t, curl("-T", "boat.jpg", y.at+"/dav/June/boat.jpg"), "201", "again: it is the same")
	assert.Contains(t, curl("-H", "Transfer-Encoding: chunked", "-T", "boat.jpg", y.at+"/dav/June/chunked.jpg"), "201")
	assert.Contains(t, curl("-T", "boat.jpg", y.at+"/dav/nowhere/boat.jpg"), "409", "its folder is not there")
	assert.Contains(t, curl("-C", "100", "-T", "boat.jpg", y.at+"/dav/June/part.jpg"), "400", "a part of a file")
	assert.Contains(t, curl("-X", "DELETE", y.at+"/dav/June/boat.jpg"), "403")
	assert.Contains(t, curl("-X", "MOVE", "-H", "Destination: "+y.at+"/dav/June/new.jpg", y.at+"/dav/June/chunked.jpg"), "201")
	assert.Contains(t, curl("-X", "MOVE", "-H", "Destination: http://elsewhere/x", y.at+"/dav/June/new.jpg"), "400")
	assert.Equal(t, map[string]string{"webdav/June/boat.jpg": is, "webdav/June/new.jpg": is}, y.here("toms-phone"))
	// One that is cut is not there.
	_, err := app(t, dir, "", "curl", "-s", "-m", "1", "--limit-rate", "50k", "-u", "toms-phone:"+keys.App, "-T", "boat.jpg", y.at+"/dav/cut.jpg")
	require.Error(t, err)
	time.Sleep(200 * time.Millisecond)
	assert.NotContains(t, y.here("toms-phone"), "webdav/cut.jpg")
	// Of an app that sends an empty file first, and locks, only the whole is there.
	assert.Contains(t, curl("-X", "PUT", "-H", "Content-Length: 0", y.at+"/dav/later.jpg"), "201")
	assert.NotContains(t, curl("-X", "PROPFIND", y.at+"/dav/"), "later.jpg")
	out := curl("-i", "-X", "LOCK", "-H", "Content-Type: application/xml", "-d", `<lockinfo xmlns="DAV:"><lockscope><exclusive/></lockscope><locktype><write/></locktype></lockinfo>`,
		y.at+"/dav/later.jpg")
	token := regexp.MustCompile(`<urn:uuid:[0-9a-f]{8}-[0-9a-f]{4}-4[0-9a-f]{3}-8[0-9a-f]{3}-[0-9a-f]{12}>`).FindString(out)
	require.NotEmpty(t, token, out)
	assert.Contains(t, curl("-T", "boat.jpg", y.at+"/dav/later.jpg"), "423")
	assert.Contains(t, curl("-T", "boat.jpg", "-H", "If: ("+token+")", y.at+"/dav/later.jpg"), "201")
	assert.Contains(t, curl("-X", "UNLOCK", "-H", "Lock-Token: "+token, y.at+"/dav/later.jpg"), "204")
	assert.Equal(t, is, y.here("toms-phone")["webdav/later.jpg"])
}

func TestCadaverHandsOver(t *testing.T) {
	t.Parallel()
	y := newYard(t)
	keys := y.add("toms-phone")
	dir := t.TempDir()
	host, _, err := net.SplitHostPort(strings.TrimPrefix(y.at, "http://"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(dir+"/.netrc", []byte(fmt.Sprintf("machine %s\nlogin toms-phone\npassword %s\n", host, keys.App)), 0o600))
	require.NoError(t, os.WriteFile(dir+"/a.jpg", []byte("boat"), 0o644))
	out, err := app(t, dir, "mkcol June\ncd June\nput a.jpg\nput a.jpg b.jpg\nmove b.jpg c.jpg\ncopy c.jpg d.jpg\nls\nget c.jpg back.jpg\ndelete a.jpg\nlock c.jpg\nunlock c.jpg\nquit\n",
		"cadaver", y.at+"/dav/")
	require.NoError(t, err, out)
	assert.Regexp(t, `Deleting .a\.jpg.: failed:\s+403 Forbidden`, out)
	assert.Equal(t, map[string]string{"webdav/June/a.jpg": "boat", "webdav/June/c.jpg": "boat", "webdav/June/d.jpg": "boat"}, y.here("toms-phone"), out)
	back, err := os.ReadFile(dir + "/back.jpg")
	require.NoError(t, err)
	assert.Equal(t, "boat", string(back))
}

func TestADavfsMountHandsOver(t *testing.T) {
	t.Parallel()
	y := newYard(t)
	keys := y.add("toms-phone")
	dir := t.TempDir()
	require.NoError(t, os.Chmod(filepath.Dir(dir), 0o755)) // it works under an account of its own
	mnt := dir + "/mnt"
	require.NoError(t, os.Mkdir(mnt, 0o755))
	require.NoError(t, os.WriteFile(dir+"/secrets", []byte(fmt.Sprintf("%s/dav/ toms-phone %s\n", y.at, keys.App)), 0o600))
	require.NoError(t, os.WriteFile(dir+"/conf", []byte(fmt.Sprintf("secrets %s/secrets\ndelay_upload 0\ncache_dir %s/cache\n", dir, dir)), 0o600))
	require.NoError(t, os.Mkdir(dir+"/cache", 0o777))
	require.NoError(t, os.Chmod(dir+"/cache", 0o777))
	out, err := app(t, dir, "", "mount.davfs", "-o", "conf="+dir+"/conf", y.at+"/dav/", mnt)
	require.NoError(t, err, out)
	unmounted := false
	unmount := func() {
		if !unmounted {
			out, err := app(t, dir, "", "umount", mnt)
			assert.NoError(t, err, out)
			unmounted = true
		}
	}
	defer unmount()
	is := content(200_000, 5)
	require.NoError(t, os.Mkdir(mnt+"/June", 0o755))
	require.NoError(t, os.WriteFile(mnt+"/June/.boat.tmp", []byte(is), 0o644))
	require.NoError(t, os.Rename(mnt+"/June/.boat.tmp", mnt+"/June/boat.jpg"))
	unmount()
	assert.Equal(t, map[string]string{"webdav/June/boat.jpg": is}, y.here("toms-phone"))
}

func TestSFTPHandsOver(t *testing.T) {
	t.Parallel()
	y := newYard(t)
	y.add("toms-phone")
	y.add("ines-phone")
	dir := t.TempDir()
	public, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(private, "")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(dir+"/key", pem.EncodeToMemory(block), 0o600))
	authorized, err := ssh.NewPublicKey(public)
	require.NoError(t, err)
	require.NoError(t, y.phones.Set("toms-phone", phonewire.PhoneSet{Keys: []string{string(ssh.MarshalAuthorizedKey(authorized))}}))
	require.NoError(t, os.WriteFile(dir+"/a.jpg", []byte("boat"), 0o644))
	large := content(3_000_000, 9)
	require.NoError(t, os.WriteFile(dir+"/large.jpg", []byte(large), 0o644))
	_, port, err := net.SplitHostPort(y.sftp)
	require.NoError(t, err)
	sftp := func(user, commands string) (string, error) {
		return app(t, dir, commands, "sftp", "-i", dir+"/key", "-o", "IdentitiesOnly=yes", "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null",
			"-o", "BatchMode=yes", "-b", "-", "-P", port, user+"@127.0.0.1")
	}
	out, err := sftp("toms-phone", "mkdir June\ncd June\nput a.jpg\nput large.jpg\nrename a.jpg b.jpg\nls -l\nget b.jpg back.jpg\npwd\n-rm b.jpg\n-ln b.jpg c.jpg\n-ln -s /etc/passwd d.jpg\n-cd ../../..\nput a.jpg\n-get /etc/passwd\n")
	require.NoError(t, err, out)
	assert.Equal(t, map[string]string{"sftp/June/b.jpg": "boat", "sftp/June/large.jpg": large, "sftp/a.jpg": "boat"}, y.here("toms-phone"), out)
	assert.Contains(t, out, "Remote working directory: /June")
	assert.NoFileExists(t, dir+"/passwd")
	back, err := os.ReadFile(dir + "/back.jpg")
	require.NoError(t, err)
	assert.Equal(t, "boat", string(back))
	_, err = sftp("ines-phone", "ls\n")
	assert.Error(t, err, "another phone's name")
	_, err = app(t, dir, "", "ssh", "-i", dir+"/key", "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", "-o", "BatchMode=yes", "-p", port,
		"toms-phone@127.0.0.1", "id")
	assert.Error(t, err, "no shell")
	// One that ends in the middle is not there.
	ctx, cancel := context.WithTimeout(t.Context(), 1200*time.Millisecond)
	defer cancel()
	cut := exec.CommandContext(ctx, "sftp", "-l", "800", "-i", dir+"/key", "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", "-b", "-", "-P", port,
		"toms-phone@127.0.0.1")
	cut.Stdin = strings.NewReader("put large.jpg cut.jpg\n")
	cut.Dir = dir
	assert.Error(t, cut.Run())
	time.Sleep(500 * time.Millisecond)
	assert.NotContains(t, y.here("toms-phone"), "sftp/cut.jpg")
	parts, err := filepath.Glob(filepath.Join(y.dir, "inbox/toms-phone/.parts/*"))
	require.NoError(t, err)
	assert.Empty(t, parts)
}

// The suite litmus, part by part. What fails is by intent: nothing that is not safe is removed, no properties of apps are
// kept, and what x/net/webdav does otherwise.
func TestLitmus(t *testing.T) {
	t.Parallel()
	y := newYard(t)
	keys := y.add("toms-phone")
	fails := map[string]string{
		"basic":    "delete",
		"copymove": "copy_overwrite copy_coll copy_shallow move move_coll",
		"props":    "propfind_invalid2 propset propmanyns propget",
		"locks":    "owner_modify copy fail_complex_cond_put lock_shared owner_modify",
		"http":     "",
	}
	failed := regexp.MustCompile(`(?m)^\s*\d+\. (\w+)\.* FAIL|\d+\. (\w+)\.{2,} FAIL`)
	for suite, want := range fails {
		dir := t.TempDir()
		out, err := app(t, dir, "", "curl", "-s", "-u", "toms-phone:"+keys.App, "-X", "MKCOL", y.at+"/dav/"+suite+"/")
		require.NoError(t, err, out)
		cmd := exec.CommandContext(t.Context(), "litmus", "-k", y.at+"/dav/"+suite+"/", "toms-phone", keys.App)
		cmd.Dir, cmd.Env = dir, append(os.Environ(), "TESTS="+suite)
		told, _ := cmd.CombinedOutput() // it fails where one test does
		var names []string
		for _, m := range failed.FindAllStringSubmatch(strings.ReplaceAll(string(told), "\r", "\n"), -1) {
			names = append(names, m[1]+m[2])
		}
		assert.Equal(t, want, strings.Join(names, " "), "%s:\n%s", suite, told)
	}
}
