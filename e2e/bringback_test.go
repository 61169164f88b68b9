package e2e

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/wire"
)

// tree tells all files below a folder: their content and the times of their last change, by their paths. What is hidden is
// left out, and what no rule takes. A folder that is not there yet has none.
func tree(t *testing.T, root string) map[string]string {
	t.Helper()
	files := map[string]string{}
	require.NoError(t, filepath.WalkDir(root, func(p string, d fs.DirEntry, err error) error {
		if p == root && errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil || d.IsDir() {
			return err
		}
		rel, _ := filepath.Rel(root, p)
		if strings.HasPrefix(rel, ".") || strings.Contains(rel, "/.") || strings.HasSuffix(rel, ".txt") {
			return nil
		}
		content, err := os.ReadFile(p)
		if err != nil {
			return err
		}
		info, err := d.Info()
		files[filepath.ToSlash(rel)] = fmt.Sprintf("%x %s", sha256.Sum256(content), info.ModTime().UTC().Format(time.RFC3339Nano))
		return err
	}))
	return files
}

// A whole device is lost, and all of it is back, with its names and times: by us, killed again and again on the way, and by
// what docs/record.md says, with nothing of ours.
func TestALostDeviceIsBroughtBack(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := demo(t, dir, "-items", "60", "-clips=false")
	// Names that people give, and pictures of some size, so that kills come in the middle of them.
	gallery := filepath.Join(dir, "galley-phone/DCIM/Camera")
	picture, err := os.ReadFile(filepath.Join(gallery, "IMG_4000.jpg"))
	require.NoError(t, err)
	for i, name := range []string{"Fähre & Möwe.jpg", "it's low tide.jpg", "-rf.jpg", "two  spaces .jpg", "50% of 100$.jpg", "\"said\".jpg"} {
		file := filepath.Join(gallery, name)
		random := make([]byte, 3<<20)
		_, _ = rand.NewChaCha8([32]byte{byte(i)}).Read(random) // it never fails
		require.NoError(t, os.WriteFile(file, append(picture[:len(picture):len(picture)], random...), 0o644))
		at := time.Date(2026, 4, 1+i, 10, 20, 30, 123_456_000, time.UTC)
		require.NoError(t, os.Chtimes(file, at, at))
	}
	want := tree(t, filepath.Join(dir, "galley-phone/DCIM"))
	require.Greater(t, len(want), 30)
	s.phone(onWiFi)
	s.until("all safe", func(y wire.Yard) bool {
		for _, d := range y.Devices {
			if d.Name == "galley-phone" && d.States[queue.Safe].N == int64(len(want)) {
				return settled(y)
			}
		}
		return false
	})
	// The open record at the place is written soon after nothing more is to come.
	place := filepath.Join(dir, "north-locker")
	var lines int
	require.Eventually(t, func() bool {
		parts, err := filepath.Glob(place + "/records/galley-phone-*/index-*.jsonl")
		require.NoError(t, err)
		lines = 0
		for _, part := range parts {
			text, err := os.ReadFile(part)
			require.NoError(t, err)
			lines += bytes.Count(text, []byte("\n"))
		}
		return lines >= len(want)
	}, 2*time.Minute, 200*time.Millisecond, "it has %d lines", lines)
	require.NoError(t, os.RemoveAll(filepath.Join(dir, "galley-phone/DCIM")))

	// By us, into a folder.
	into := filepath.Join(dir, "back")
	for n := range 12 {
		cmd := exec.Command(binary, "bring-back", "-device", "galley-phone", "-into", into)
		cmd.Env = append(os.Environ(), "YARDTIDE_URL="+s.url, "YARDTIDE_TOKEN="+s.token())
		require.NoError(t, cmd.Start())
		time.Sleep(time.Duration(20+rand.IntN(150)) * time.Millisecond)
		s.kill()
		_ = cmd.Wait() // the service was killed under it
		for name, is := range tree(t, into) {
			assert.Equal(t, want[strings.TrimPrefix(name, "DCIM/")], is, "kill %d: what has its name is whole: %s", n, name)
		}
		s.start()
	}
	s.phone(onWiFi)
	s.until("the phone is at home", func(y wire.Yard) bool { return y.Devices[0].Conditions.Network == plan.WiFi })
	out := s.ok("bring-back", "-device", "galley-phone", "-into", into)
	assert.Contains(t, out, fmt.Sprintf("%d pictures and clips there", len(want)))
	assert.Equal(t, want, tree(t, filepath.Join(into, "DCIM")))
	assert.NoDirExists(t, filepath.Join(into, "DCIM/.yardtide-back"))

	// By what the document says.
	doc, err := os.ReadFile("../docs/record.md")
	require.NoError(t, err)
	script := regexp.MustCompile("(?s)```bash\nplace=[^\n]*\n(.*?)```").FindSubmatch(doc)
	require.Len(t, script, 2)
	alone := filepath.Join(dir, "alone")
	cmd := exec.Command("bash", "-euo", "pipefail", "-c", string(script[1]))
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "place=" + place, "device=galley-phone", "to=" + alone}
	said, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", said)
	assert.Empty(t, string(said))
	assert.Equal(t, want, tree(t, filepath.Join(alone, "DCIM")))

	// To its own place: it is what it was, and nothing is sent.
	s.ok("bring-back", "-device", "galley-phone")
	assert.Equal(t, want, tree(t, filepath.Join(dir, "galley-phone/DCIM")))
	s.until("known again", func(y wire.Yard) bool {
		return settled(y) && total(y, queue.Waiting, queue.Preparing, queue.Sending, queue.Proving) == 0
	})
	require.Eventually(t, func() bool { return len(s.found("-device", "galley-phone", "-where", "gone")) == 0 }, time.Minute, 200*time.Millisecond)
	assert.Len(t, s.found("-device", "galley-phone"), len(want))
	var jobs []wire.Job
	require.NoError(t, json.Unmarshal([]byte(s.ok("jobs", "-json")), &jobs))
	require.NotNil(t, jobs[0].Back)
	assert.EqualValues(t, len(want), jobs[0].Back.N)
	for args, says := range map[string]string{
		"-device galley-phone -into back":                 "none of this computer",
		"-device galley-phone -on nobody -into x":         "There is no device \"nobody\"",
		"-device galley-phone -on chart-table":            "name the folder",
		"-device galley-phone -on chart-table -into ../x": "is no folder below",
		"-at nowhere -into /tmp/x":                        "There is no destination",
		"-into /tmp/x":                                    "say what is to come back",
	} {
		_, errOut, code := s.run(append([]string{"bring-back"}, strings.Fields(args)...)...)
		assert.NotZero(t, code, args)
		assert.Contains(t, strings.ToLower(errOut), strings.ToLower(says), args)
	}
}

// What a joined device lost comes back on it, ordered by the service; and what it has, on the computer of the service, also
// when it is gone for good.
func TestWhatAJoinedDeviceLostIsBack(t *testing.T) {
	t.Parallel()
	s, dir, _ := slip(t)
	d := joins(t, s, dir, "galley-phone", "")
	writes(t, dir, "galley-phone/DCIM", "a.jpg", "b.jpg", "c.jpg")
	writes(t, dir, "desk/Pictures", "d.jpg")
	d.start()
	s.until("safe", func(y wire.Yard) bool { return safe("galley-phone", 3)(y) && safe("desk", 1)(y) })
	want := tree(t, filepath.Join(dir, "galley-phone/DCIM"))
	lost := filepath.Join(dir, "galley-phone/DCIM/b.jpg")
	require.NoError(t, os.Remove(lost))
	require.Eventually(t, func() bool { return len(s.found("-where", "gone")) == 1 }, time.Minute, 100*time.Millisecond)
	assert.Contains(t, s.ok("bring-back", "-device", "galley-phone", "-where", "gone"), "1 picture or clip there")
	assert.Equal(t, want, tree(t, filepath.Join(dir, "galley-phone/DCIM")))
	require.Eventually(t, func() bool { return len(s.found("-where", "gone")) == 0 }, time.Minute, 100*time.Millisecond, "it is what it was")
	// To another device, which runs by itself.
	s.ok("bring-back", "-device", "desk", "-on", "galley-phone", "-into", "From the desk")
	assert.Len(t, tree(t, filepath.Join(dir, "galley-phone/From the desk/Pictures")), 1)
	_, errOut, code := s.run("bring-back", "-device", "desk", "-on", "galley-phone", "-into", ".ssh")
	assert.NotZero(t, code)
	assert.Contains(t, errOut, "what is hidden is brought to no device")
	assert.NoDirExists(t, filepath.Join(dir, "galley-phone/.ssh"))
	// By its own program, while the service is away.
	require.NoError(t, os.Remove(lost))
	require.Eventually(t, func() bool { return len(d.found("-where", "gone")) == 1 }, time.Minute, 100*time.Millisecond)
	s.stop()
	d.ok("bring-back", "-where", "gone")
	assert.FileExists(t, lost)
	s.start()
	// It falls into the water: all that it had is found still, and comes to the desk.
	d.kill()
	require.NoError(t, os.RemoveAll(filepath.Join(dir, "galley-phone")))
	assert.Len(t, s.found("-device", "galley-phone"), 3)
	s.ok("bring-back", "-device", "galley-phone", "-on", "desk", "-into", "From the phone")
	assert.Equal(t, want, tree(t, filepath.Join(dir, "desk/From the phone/DCIM")))
}
