package upkeep

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yardtide/core/gate"
	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/plantext"
	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/destination/folder"
	"yardtide/engine/fleet"
	"yardtide/engine/place"
	"yardtide/engine/records"
	"yardtide/engine/records/recordstest"
)

const smallPlan = `
yard: Test
timezone: UTC
renditions: {quick: {long-edge: 200}}
destinations: {locker: {kind: folder, path: /x}}
devices: {phone: {sources: [{folder: DCIM, rule: all}]}}
rules: {all: {take: [photo], to: [locker], lanes: [{over: wifi}, {over: cellular, send: quick}]}}
`

// meddler is a folder in which somebody else changes things between any two calls, and
// whose calls are cut before they did anything or after they did.
type meddler struct {
	folder.Driver
	before func(call string) error
	after  func(call string) error
}

// Anchor keeps the meddling around what is tied to the place.
func (m *meddler) Anchor(at destination.Anchor) destination.Driver {
	tied := *m
	tied.Driver = m.Driver.Anchor(at).(folder.Driver)
	return &tied
}

func (m *meddler) around(call string, do func() error) error {
	if err := m.before(call); err != nil {
		return err
	}
	err := do()
	if cut := m.after(call); cut != nil {
		return cut
	}
	return err
}

func (m *meddler) Open(ctx context.Context, path string) (r io.ReadCloser, err error) {
	err = m.around("open", func() (err error) { r, err = m.Driver.Open(ctx, path); return err })
	return r, err
}

func (m *meddler) Withdraw(ctx context.Context, path, temp string) error {
	return m.around("withdraw", func() error { return m.Driver.Withdraw(ctx, path, temp) })
}

func (m *meddler) Remove(ctx context.Context, temp string) error {
	return m.around("remove", func() error { return m.Driver.Remove(ctx, temp) })
}

func (m *meddler) Publish(ctx context.Context, temp, path string) error {
	return m.around("publish", func() error { return m.Driver.Publish(ctx, temp, path) })
}

var errCut = &destination.Error{Cause: queue.Unreachable, Says: "cut"}

// Whoever changes whatever at any moment, and whenever it is cut: nothing is removed at a
// destination but what was put there as a small copy, and that only once its whole was
// seen to be there.
func TestNothingIsRemovedButASmallCopyOfWhatIsSafe(t *testing.T) {
	before := flag.Lookup("rapid.checks").Value.String()
	require.NoError(t, flag.Set("rapid.checks", "100")) // each makes records of its own
	defer func() { require.NoError(t, flag.Set("rapid.checks", before)) }()
	rapid.Check(t, func(rt *rapid.T) {
		ctx := t.Context()
		root, data := t.TempDir(), t.TempDir()
		write := func(path, content string) {
			require.NoError(rt, os.MkdirAll(filepath.Dir(filepath.Join(root, path)), 0o755))
			require.NoError(rt, os.WriteFile(filepath.Join(root, path), []byte(content), 0o644))
		}
		there := func() map[string]string { // by content
			all := map[string]string{}
			require.NoError(rt, filepath.WalkDir(root, func(p string, d fs.DirEntry, err error) error {
				if err == nil && !d.IsDir() {
					content, rerr := os.ReadFile(p)
					rel, _ := filepath.Rel(root, p)
					all[string(content)], err = rel, rerr
				}
				return err
			}))
			return all
		}
		r, err := recordstest.Open(ctx, data+"/r.db")
		require.NoError(rt, err)
		defer r.Close()
		p, err := plantext.Parse("plan", []byte(smallPlan))
		require.NoError(rt, err)
		require.NoError(rt, r.Catalogue.Apply(ctx, p, "phone", time.Now()))
		require.NoError(rt, r.Catalogue.Admit(ctx,
			[]records.Item{{Source: "DCIM", Dir: ".", Name: "a.jpg", Size: 9, Kind: media.Photo, Rule: "all",
				ContentType: "image/jpeg", TakenMS: 1}}, p, time.Now()))
		require.NoError(rt, r.Forms.SetForm(ctx, records.Alike{Item: 1, Rule: "all", Shelf: plan.Small,
			Destinations: p.Rules["all"].To}, "quick", true, int64(len("a small one")), "",
			time.Now()))
		const small, whole = "small/a.jpg", "2026/a.jpg"
		for _, c := range []struct {
			id            int64
			path, content string
		}{{1, whole, "the whole"}, {2, small, "a small one"}} {
			write(c.path, c.content)
			sum := sha256.Sum256([]byte(c.content))
			hash, yes := hex.EncodeToString(sum[:]), true
			for _, to := range []queue.State{queue.Sending, queue.Proving} {
				require.NoError(rt, r.Queue.Step(ctx, c.id, to, "", records.Change{Remote: &c.path, SHA256: &hash, Landed: &yes},
					time.Now()))
			}
		}
		require.NoError(rt, r.Queue.Step(ctx, 2, queue.Safe, "", records.Change{}, time.Now()))
		require.NoError(rt, r.Queue.Step(ctx, 1, queue.Safe, "", records.Change{}, time.Now()))

		others := map[string]bool{} // what somebody else put there, that nobody else took away
		wholeChanged, smallTaken := false, false
		busy := true
		// At some moments, before or after a call, something happens.
		happens := rapid.MapOfN(rapid.IntRange(0, 14),
			rapid.SampledFrom([]string{"they write there", "they take it away", "they damage the whole", "it is cut"}), 1,
			4).Draw(rt, "what happens")
		moment := 0
		meddle := func(string) error {
			if !busy {
				return nil
			}
			now, err := os.ReadFile(filepath.Join(root, small))
			what := happens[moment]
			if moment++; strings.HasPrefix(what, "they write") || strings.HasPrefix(what, "they take") {
				if err == nil {
					delete(others, string(now)) // it is theirs
					smallTaken = smallTaken || string(now) == "a small one"
				}
			}
			switch what {
			case "they write there":
				own := fmt.Sprint("somebody's ", moment)
				write(small, own)
				others[own] = true
			case "they take it away":
				if err == nil {
					require.NoError(rt, os.Remove(filepath.Join(root, small)))
				}
			case "they damage the whole":
				wholeChanged = true
				write(whole, "damaged")
			case "it is cut":
				return errCut
			}
			return nil
		}
		driver := &meddler{folder.Driver{Root: root}, meddle, meddle}
		places, err := place.New(ctx, place.Options{Device: "phone", Owner: "phone", Records: place.LedgerOf(r),
			Driver: func(string) (destination.Driver, error) { return driver, nil }, Changed: func() {}, Tell: func() {},
			Log: slog.New(slog.DiscardHandler), Jitter: func() float64 { return 0.5 },
			Wait: func(d time.Duration) time.Duration { return d }})
		require.NoError(rt, err)
		places.SetPlan(p)
		others2 := &fleet.Fleet{}
		others2.Join(fleet.Member{Name: "phone", Records: func() *records.Records { return r }, Counts: places.Counts,
			Wake: func() {}, Tell: func() {}})
		outlook := func() gate.Situation {
			return gate.Situation{Device: "phone", Plan: p, Time: time.Now(), Zone: time.UTC,
				Places: map[string]gate.At{"locker": {Left: -1}}, Now: gate.Conditions{Network: plan.WiFi, Metered: gate.No,
					Roaming: gate.No}}
		}
		for try := range 12 {
			busy = try < 8
			u := New(Options{Device: "phone", Owner: "phone", Folder: "phone", Records: r, Places: places, Others: others2,
				Outlook: outlook, Changed: func() {}, Tell: func() {}, Log: slog.New(slog.DiscardHandler)})
			wasDamaged := wholeChanged
			_, had := there()["a small one"]
			do, _, err := u.withdrawDue(ctx, "locker", time.Now(), false)
			require.NoError(rt, err)
			if do == nil {
				continue
			}
			if err := do(ctx); err != nil {
				require.True(rt, busy && errors.Is(err, errCut), "%v", err)
			}
			now := there()
			for content := range others {
				require.Contains(rt, now, content, "somebody else's file was removed")
			}
			if wasDamaged && had && !smallTaken {
				require.Contains(rt, now, "a small one", "the small copy was removed although its whole was not there")
			}
			if !wholeChanged {
				require.Contains(rt, now, "the whole")
			}
			// What cleans up after the device does not take it for its own.
			busy = false
			require.NoError(rt, u.removeForgotten(ctx, "locker"))
			temps, err := r.Queue.Temps(ctx, "locker", time.Now().Add(time.Hour))
			require.NoError(rt, err)
			require.Empty(rt, temps)
		}
		for content, path := range there() {
			if others[content] {
				assert.False(rt, strings.HasPrefix(path, destination.TempDir), "somebody else's file is left at %s", path)
			}
		}
		if _, left := there()["a small one"]; !wholeChanged && !smallTaken {
			require.False(rt, left, "a small copy of what is safe is left")
		}
	})
}
