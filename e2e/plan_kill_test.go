package e2e

import (
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/plan"
	"yardtide/core/plantext"
	"yardtide/wire/planwire"
)

// Two browsers and a command line change the plan at once, and the service is killed in
// the middle again and again: no change that was answered is lost, none is half there.
func TestAPlanOutlivesKillsInTheMiddleOfChanges(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := desk(t, dir, dir+"/data")
	var mu sync.Mutex
	answered := map[string]bool{} // folders whose change was answered
	tries := 0
	for round := range 8 {
		stop := make(chan struct{})
		var writers sync.WaitGroup
		for w := range 3 {
			writers.Go(func() {
				for i := 0; ; i++ {
					select {
					case <-stop:
						return
					default:
					}
					folder := fmt.Sprintf("r%d-w%d-%d", round, w, i)
					source := map[string]any{"folder": folder, "rules": []string{"all"}}
					_, err := s.client().Plans().Edit(t.Context(),
						planwire.PlanEdits{Edits: []plan.Edit{{Path: []string{"devices", "desk", "sources", "+"}, Value: source}}})
					mu.Lock()
					tries++
					if err == nil {
						answered[folder] = true
					}
					mu.Unlock()
					if err != nil {
						return // it was killed
					}
				}
			})
		}
		time.Sleep(time.Duration(100+rand.IntN(300)) * time.Millisecond)
		s.kill()
		close(stop)
		writers.Wait()
		s.start()
		text := s.ok("plan", "show")
		p, err := plantext.Parse("plan", []byte(text))
		require.NoError(t, err, "never between two versions")
		have := map[string]bool{}
		for _, source := range p.Devices["desk"].Sources {
			have[source.Folder] = true
		}
		for folder := range answered {
			assert.True(t, have[folder], "%s was answered and is lost", folder)
		}
	}
	require.Greater(t, len(answered), 3, "of %d", tries)
	t.Logf("%d changes were answered, in %d tries", len(answered), tries)
	now, err := s.client().Plans().InForce(t.Context())
	require.NoError(t, err)
	before := ""
	for n := int64(1); n <= now.Version; n++ { // every version is whole, and one change after the one before
		text, err := os.ReadFile(fmt.Sprintf("%s/data/plans/%06d.yaml", dir, n))
		require.NoError(t, err)
		_, err = plantext.Parse("plan", text)
		require.NoError(t, err)
		if before != "" {
			assert.Equal(t, strings.Count(before, "folder: r")+1, strings.Count(string(text), "folder: r"), "version %d", n)
		}
		before = string(text)
	}
}
