package bench

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yardtide/core/gate"
	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/engine/sensor"
)

// Folders with one small file each: taking them in, and a start over them when nothing changed,
// whose CPU time is told against that of find. Bounds: both linear; 20,000 taken in within 5 s;
// 100,000 known at 3x of find.
func BenchmarkFoldersOfOne(b *testing.B) {
	for _, n := range []int{5_000, 20_000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			for range b.N {
				dir := b.TempDir()
				for i := range n {
					folder := filepath.Join(dir, "in", fmt.Sprintf("%03d/%05d", i/100, i))
					require.NoError(b, os.MkdirAll(folder, 0o755))
					fill(b, folder+"/a.jpg", 850)
				}
				all := func(began time.Time) (took time.Duration) {
					var sense sensor.Set
					sense.Put(gate.Conditions{Network: plan.Wired, Metered: gate.No, Roaming: gate.No, Charging: gate.Yes,
						Battery: -1})
					s, done := open(b, dir, fmt.Sprintf(benchPlan, nowhere), &sense)
					defer done()
					d, _ := s.Device("desk")
					for {
						st, err := d.Told.Status(b.Context())
						require.NoError(b, err)
						if st.States[queue.Waiting].N == int64(n) && !st.Sources[0].Scanned.IsZero() {
							return time.Since(began)
						}
						time.Sleep(20 * time.Millisecond)
					}
				}
				bounded(b, all(time.Now()).Seconds(), "taken-in-s", float64(n)/4000)
				found := exec.Command("find", dir+"/in", "-printf", "%s %p\n")
				require.NoError(b, found.Run())
				reference := found.ProcessState.SystemTime() + found.ProcessState.UserTime()
				before := cpu(b)
				all(time.Now())
				b.ReportMetric((cpu(b) - before).Seconds(), "start-cpu-s")
				bounded(b, (cpu(b)-before).Seconds()/reference.Seconds(), "start/find", 3)
			}
		})
	}
}

// 100,000 small JPEGs taken in, sends held. Bound: 8 s.
func BenchmarkTakenIn(b *testing.B) {
	for range b.N {
		dir := b.TempDir()
		const n = 100_000
		for i := range n {
			folder := filepath.Join(dir, "in", fmt.Sprintf("%03d", i/1000))
			if i%1000 == 0 {
				require.NoError(b, os.MkdirAll(folder, 0o755))
			}
			fill(b, fmt.Sprintf("%s/%05d.jpg", folder, i), 850)
		}
		var sense sensor.Set
		sense.Put(gate.Conditions{Network: plan.Wired, Metered: gate.No, Roaming: gate.No, Charging: gate.Yes, Battery: -1})
		began := time.Now()
		s, done := open(b, dir, fmt.Sprintf(benchPlan, nowhere), &sense)
		d, _ := s.Device("desk")
		for {
			st, err := d.Told.Status(b.Context())
			require.NoError(b, err)
			if st.States[queue.Waiting].N == n {
				break
			}
			time.Sleep(20 * time.Millisecond)
		}
		bounded(b, time.Since(began).Seconds(), "taken-in-s", 8)
		done()
	}
}
