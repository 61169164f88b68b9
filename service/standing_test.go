package service_test

import (
	"context"
	"encoding/json"
	"log/slog"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"yardtide/engine/sensor"
	"yardtide/engine/volume"
	"yardtide/service"
	"yardtide/service/caller"
	"yardtide/standin"
)

// The keeper's standing answers: a folder that appears is taken up by the rule that they name, a closed library by its
// originals, and each card is named in the plan.
func TestStandingAnswersAreCarriedOut(t *testing.T) {
	root, reader := t.TempDir(), filepath.Join(t.TempDir(), "reader.json")
	require.NoError(t, os.WriteFile(reader, []byte(`{"volumes": []}`), 0o644))
	var sense sensor.Set
	s, err := service.Open(t.Context(), service.Options{Dir: t.TempDir(), Log: slog.New(slog.DiscardHandler),
		Wait:    func(d time.Duration) time.Duration { return d / 100 },
		Members: []service.Local{{Name: "desk", Root: root, Sensor: &sense, Volumes: volume.Written{Name: reader}}}})
	require.NoError(t, err)
	ctx, stop := context.WithCancel(t.Context())
	var runs errgroup.Group
	runs.Go(func() error { return s.Run(ctx) })
	t.Cleanup(func() {
		stop()
		assert.NoError(t, runs.Wait())
		assert.NoError(t, s.Close())
	})
	_, err = s.Book.Apply(caller.AtTheMachine(t.Context()), "p",
		"yard: T\ntimezone: UTC\ndestinations:\n  disk: {kind: folder, path: "+t.TempDir()+"}\ndevices:\n  desk:\n    new-folders: all\n"+
			"    cards: {any: {rule: all}}\n    sources: [{folder: in, rule: all}]\nrules:\n  all: {take: [photo], to: [disk], lanes: "+
			"[{over: wifi}]}\n", 0)
	require.NoError(t, err)
	d, there := s.Device("desk")
	require.True(t, there)
	require.Eventually(t, func() bool {
		st, err := d.Told.Status(t.Context())
		return err == nil && st.Strays != nil
	}, time.Minute, 10*time.Millisecond, "what is there is known")

	require.NoError(t, standin.Library(root+"/Old boats.boatcase", 1, 8, 240))
	card := filepath.Join(t.TempDir(), "card")
	require.NoError(t, os.MkdirAll(card+"/DCIM/100BOATS", 0o755))
	text, err := json.Marshal(map[string]any{"volumes": []volume.Volume{{ID: "4F3A-11C2", Label: "CLUB", Root: card}}})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(reader, text, 0o644))
	require.Eventually(t, func() bool {
		own := s.Book.Plan().Devices["desk"]
		return len(own.Sources) == 2 && len(own.Cards) == 2
	}, time.Minute, 20*time.Millisecond, "the plan says so")
	own := s.Book.Plan().Devices["desk"]
	assert.Equal(t, "Old boats.boatcase", own.Sources[1].Folder)
	assert.Equal(t, []string{"all"}, own.Sources[1].Rules)
	assert.Equal(t, []string{"."}, own.Sources[1].OriginalsOnly)
	assert.Equal(t, []string{"all"}, own.Cards["4F3A-11C2"].Rules)
	assert.Equal(t, "CLUB", own.Cards["4F3A-11C2"].Name)
	_, version := s.Book.Text()
	time.Sleep(2500 * time.Millisecond)
	_, after := s.Book.Text()
	assert.Equal(t, version, after, "each is answered once")
}
