package bench

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yardtide/core/gate"
	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/engine/look"
	"yardtide/engine/sensor"
	"yardtide/standin"
)

// The originals of a closed library of 100,000 files, told from the smaller versions, against a first scan of the same
// tree that takes everything in. The names are such as cameras give again and again, and half of the versions have no
// facts. Bound: 2x.
func BenchmarkLibrary(b *testing.B) {
	for range b.N {
		dir := b.TempDir()
		const pictures = 25_000
		require.NoError(b, standin.LargeLibrary(dir+"/in/Boats.boatcase", 1, pictures, 100, 640))

		var sense sensor.Set
		sense.Put(gate.Conditions{Network: plan.Wired, Metered: gate.No, Roaming: gate.No, Charging: gate.Yes, Battery: -1})
		began := time.Now()
		s, done := open(b, dir, fmt.Sprintf(benchPlan, nowhere), &sense)
		d, _ := s.Device("desk")
		for {
			st, err := d.Told.Status(b.Context())
			require.NoError(b, err)
			if st.States[queue.Waiting].N == 4*pictures-1 {
				break
			}
			time.Sleep(20 * time.Millisecond)
		}
		scan := time.Since(began)
		done()
		began = time.Now()
		sum, err := look.At(b.Context(), dir+"/in", look.Options{}, func(look.Totals) {})
		require.NoError(b, err)
		require.Len(b, sum.Libraries, 1)
		b.ReportMetric(float64(sum.Libraries[0].Originals.N)/pictures, "originals-of-all")
		b.ReportMetric(scan.Seconds(), "scan-s")
		bounded(b, time.Since(began).Seconds()/scan.Seconds(), "x-scan", 2)
	}
}
