package bench

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yardtide/e2e/browser"
	"yardtide/wire/planwire"
)

// The page of the library over a million items, in Chromium: how long until its first faces stand there, how long a jump by
// date takes, and how a scroll goes. Bounds: 50 ms for what the service answers is in BenchmarkMillionRows; here, with the
// browser, half a second, and no more than one frame in twenty late while it scrolls (a frame is late after 34 ms).
func BenchmarkLibraryPage(b *testing.B) {
	for range b.N {
		dir := b.TempDir()
		know(b, dir, "desk", 1_000_000)
		data := dir + "/desk/data"
		p := begin(b, data, "serve", "-data", data, "-device", "desk", "-root", dir+"/desk", "-listen", "127.0.0.1:0")
		_, err := p.client(b).Plans().Apply(b.Context(), planwire.PlanChange{Text: linkPlan})
		require.NoError(b, err)
		link, err := p.client(b).Link(b.Context())
		require.NoError(b, err)
		tab, err := browser.Start(b.Context())
		require.NoError(b, err)
		require.NoError(b, tab.Open(link))
		first := func() time.Duration {
			began := time.Now()
			require.NoError(b, tab.Open(p.url+"/library"))
			require.Eventually(b, func() bool {
				is, err := browser.Eval[bool](tab, `document.getElementById("face-0") !== null`)
				return err == nil && is
			}, time.Minute, 5*time.Millisecond)
			return time.Since(began)
		}
		b.ReportMetric(first().Seconds(), "begun-s")
		bounded(b, first().Seconds(), "first-faces-s", 0.5)
		jump, err := browser.Eval[float64](tab, `(async () => {
			const began = performance.now();
			scrollTo({ top: document.body.scrollHeight / 2 });
			const stands = () => [...document.querySelectorAll('[id^="face-"]')].some((e) => Number(e.id.slice(5)) > 400000);
			while (!stands() && performance.now() - began < 10000) await new Promise(requestAnimationFrame);
			return performance.now() - began;
		})()`)
		require.NoError(b, err)
		bounded(b, jump, "jump-ms", 500)
		late, err := browser.Eval[float64](tab, `(async () => {
			let late = 0, all = 0, last = performance.now();
			for (const began = last; last - began < 5000; ) {
				scrollBy(0, 120);
				await new Promise(requestAnimationFrame);
				const now = performance.now();
				all++;
				if (now - last > 34) late++;
				last = now;
			}
			return late / all;
		})()`)
		require.NoError(b, err)
		bounded(b, 100*late, "late-frames-%", 5)
		require.NoError(b, tab.Close())
	}
}
