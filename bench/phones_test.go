package bench

import (
	"crypto/rand"
	"fmt"
	"net"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yardtide/e2e/browser"
	"yardtide/wire/phonewire"
	"yardtide/wire/planwire"
)

// 500 files of 3 MB by the page in a phone's browser, against curl with four at once, which hands the same amount to the
// same inbox by WebDAV; and the memory of the service beside it. The page asks first what is there: by the size of each,
// and by the content of those that have a size that is known.
func BenchmarkPhonePage(b *testing.B) {
	dir := b.TempDir()
	p := begin(b, dir+"/data", "serve", "-data", dir+"/data", "-device", "desk", "-root", dir+"/desk", "-listen", "127.0.0.1:0")
	c := p.client(b)
	_, err := c.Plans().Apply(b.Context(), planwire.PlanChange{Text: linkPlan})
	require.NoError(b, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(b, err)
	at := l.Addr().String()
	require.NoError(b, l.Close())
	n, err := c.Phones().SetNetwork(b.Context(), phonewire.PhoneNetwork{Plain: at, Most: 100_000_000_000})
	require.NoError(b, err)
	require.Empty(b, n.PlainProblem)
	keys, err := c.Phones().Add(b.Context(), phonewire.PhoneAdd{Name: "toms-phone"})
	require.NoError(b, err)

	files := func(name string, more int) (all []string) {
		for i := range 500 {
			content := make([]byte, 3_000_000+2*i+more) // of pictures, hardly two have one size
			_, _ = rand.Read(content)
			copy(content, "\xff\xd8\xff\xe0")
			all = append(all, fmt.Sprintf("%s/%s-%03d.jpg", dir, name, i))
			require.NoError(b, os.WriteFile(all[i], content, 0o644))
		}
		return all
	}
	first, second := files("app", 0), files("page", 1)
	app := parallel(b, fmt.Sprintf("http://toms-phone:%s@%s/dav/", keys.WebDAV.Password, at), first)

	tab, err := browser.Start(b.Context())
	require.NoError(b, err)
	defer func() { require.NoError(b, tab.Close()) }()
	require.NoError(b, tab.Phone())
	require.NoError(b, tab.Open(keys.Page.Address))
	require.Eventually(b, func() bool { text, _ := tab.Text(); return strings.Contains(text, "Choose pictures") }, time.Minute, 20*time.Millisecond)
	began := time.Now()
	require.NoError(b, tab.Pick("Pictures and clips", second...))
	require.Eventually(b, func() bool {
		text, _ := tab.Text()
		return strings.Contains(text, "All of them are handed over")
	}, 10*time.Minute, 50*time.Millisecond)
	page := time.Since(began)
	bounded(b, page.Seconds()/app.Seconds(), "of-curl-x", 1/0.7)
	b.ReportMetric(1500/page.Seconds(), "MB/s")
	bounded(b, p.peak(b), "MiB-of-the-service", 100)
}
