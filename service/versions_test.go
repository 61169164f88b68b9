package service_test

import (
	"fmt"
	"os"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/service/caller"
	"yardtide/service/planbook"
	"yardtide/wire/planwire"
)

// shared is a plan with a comment, whose number of senders is its content.
func shared(dir string, senders int) string {
	return fmt.Sprintf("# ours, by hand\nyard: T\ntimezone: UTC\ndestinations:\n  disk: {kind: folder, path: %s, "+
		"senders: %d} # the slow one\ndevices:\n  desk:\n    sources: [{folder: in, rule: all}]\nrules:\n  all: {take: "+
		"[photo], to: [disk], lanes: [{over: wifi}]}\n", dir, senders)
}

func TestVersionsAreToldComparedAndPutInForceAgain(t *testing.T) {
	dir, disk := t.TempDir(), t.TempDir()
	s := open(t, dir)
	list, err := s.Book.History(0)
	require.NoError(t, err)
	assert.Empty(t, list)
	_, err = s.Book.GoBack(t.Context(), 1, 0)
	var none planbook.NoVersion
	require.ErrorAs(t, err, &none)

	machine := caller.AtTheMachine(t.Context())
	_, err = s.Book.Apply(machine, "p", shared(disk, 2), 0)
	require.NoError(t, err)
	_, err = s.Book.Apply(t.Context(), "p", shared(disk, 3), 1)
	require.NoError(t, err)
	_, err = s.Book.Apply(t.Context(), "p", "# another note\n"+shared(disk, 3), 2)
	require.NoError(t, err)
	back, err := s.Book.GoBack(machine, 1, 3)
	require.NoError(t, err)
	assert.EqualValues(t, 4, back)
	text, _ := s.Book.Text()
	assert.Equal(t, shared(disk, 2), text, "byte for byte")
	assert.Equal(t, 2, s.Book.Plan().Destinations["disk"].Senders)

	list, err = s.Book.History(0)
	require.NoError(t, err)
	require.Len(t, list, 4)
	var told []string
	for _, v := range list {
		told = append(told, fmt.Sprintf("%d %s %v %s", v.Version, v.By, v.InForce, v.Says[0]))
		assert.False(t, v.At.IsZero())
	}
	assert.Equal(t, []string{
		"4 undo true The number of senders of disk is 2, and was 3.",
		"3 console false Comments, order or spelling; it means the same.",
		"2 console false The number of senders of disk is 3, and was 2.",
		"1 command false The yard is called T.",
	}, told)
	list, err = s.Book.History(3)
	require.NoError(t, err)
	assert.Len(t, list, 2)

	d, err := s.Book.Diff(1, 2)
	require.NoError(t, err)
	assert.Equal(t, []string{"The number of senders of disk is 3, and was 2."}, d.Says)
	assert.Contains(t, d.Text, "--- version 1\n+++ version 2\n")
	assert.Contains(t, d.Text, "\n-  disk: {kind: folder, path: "+disk+", senders: 2} # the slow one\n+  disk: ")
	d, err = s.Book.Diff(1, 4)
	require.NoError(t, err)
	assert.Empty(t, d.Text)
	assert.Empty(t, d.Says)
	for _, pair := range [][2]int64{{1, 5}, {-1, 1}, {7, 9}} {
		_, err = s.Book.Diff(pair[0], pair[1])
		assert.ErrorAs(t, err, &none, "%v", pair)
	}
	for _, to := range []int64{-1, 0, 5} {
		_, err = s.Book.GoBack(machine, to, 4)
		assert.ErrorAs(t, err, &none, to)
	}
	var stale planbook.Stale
	_, err = s.Book.GoBack(machine, 2, 3)
	require.ErrorAs(t, err, &stale)

	// Versions that were made before it was kept by whom, and one that was damaged.
	require.NoError(t, s.Close())
	require.NoError(t, os.Remove(dir+"/plans/000002.json"))
	require.NoError(t, os.WriteFile(dir+"/plans/000003.yaml", []byte("yard: [\n"), 0o600))
	s = open(t, dir)
	t.Cleanup(func() { assert.NoError(t, s.Close()) })
	list, err = s.Book.History(0)
	require.NoError(t, err)
	assert.Equal(t, planwire.PlanByUnknown, list[2].By)
	assert.False(t, list[2].At.IsZero())
	assert.Contains(t, list[1].Says[0], "cannot be read any more")
	_, err = s.Book.GoBack(machine, 3, 4)
	require.Error(t, err, "what has mistakes is not put in force")
	_, now := s.Book.Text()
	assert.EqualValues(t, 4, now)
}

// Many change the plan at once, by text and by going back: each change is either one
// version, whole, or refused, and none is lost.
func TestManyChangeThePlanAtOnce(t *testing.T) {
	s, disk := open(t, t.TempDir()), t.TempDir()
	t.Cleanup(func() { assert.NoError(t, s.Close()) })
	_, err := s.Book.Apply(t.Context(), "p", shared(disk, 1), 0)
	require.NoError(t, err)
	var mu sync.Mutex
	made := map[int64]string{1: shared(disk, 1)}
	var all sync.WaitGroup
	for who := range 3 {
		all.Go(func() {
			for i := range 70 {
				_, base := s.Book.Text()
				text := shared(disk, 1+(who*70+i)%16)
				var version int64
				var err error
				if who == 2 {
					mu.Lock()
					text = made[1]
					mu.Unlock()
					version, err = s.Book.GoBack(t.Context(), 1, base)
				} else {
					version, err = s.Book.Apply(t.Context(), "p", text, base)
				}
				var stale planbook.Stale
				if err != nil {
					assert.ErrorAs(t, err, &stale)
					continue
				}
				mu.Lock()
				assert.NotContains(t, made, version, "no version is made twice")
				made[version] = text
				mu.Unlock()
			}
		})
	}
	all.Wait()
	list, err := s.Book.History(0)
	require.NoError(t, err)
	assert.EqualValues(t, len(made), list[0].Version, "no number is left out")
	for n, text := range made {
		d, err := s.Book.Diff(0, n)
		require.NoError(t, err)
		var lines []string
		for line := range strings.Lines(d.Text) {
			if rest, plus := strings.CutPrefix(line, "+"); plus && !strings.HasPrefix(line, "+++ ") {
				lines = append(lines, rest)
			}
		}
		require.Equal(t, text, strings.Join(lines, ""), "version %d is what was sent", n)
	}
}
