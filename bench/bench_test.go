// Package bench measures speed and size against references in the same run:
// `make bench`. It asserts nothing; docs/speed.md has the figures.
package bench

import (
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"testing/fstest"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
	"github.com/stretchr/testify/require"

	"yardtide/client"
	"yardtide/core/gate"
	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/engine/device"
	"yardtide/engine/look"
	"yardtide/engine/records"
	"yardtide/engine/scan"
	"yardtide/engine/sensor"
	"yardtide/engine/stray"
	"yardtide/service"
	"yardtide/service/api"
	"yardtide/service/caller"
	"yardtide/standin"
	"yardtide/standin/apache"
	"yardtide/standin/gateway"
	"yardtide/standin/sshd"
	"yardtide/wire"
)

const benchPlan = `yard: Bench
timezone: UTC
destinations:
  storage: {%s, layout: "{device}/{name}"}
devices:
  desk:
    sources: [{folder: in, rule: all}]
rules:
  all:
    take: [photo]
    to: [storage]
    lanes: [{over: wifi, metered: true}]
`

// nowhere is a storage that does not answer.
const nowhere = `kind: webdav, url: "http://127.0.0.1:1/dav/"`

func onDAV(url string) string { return fmt.Sprintf("kind: webdav, url: %q", url) }

// jpegHead makes a file a photo by its content.
var jpegHead = []byte("\xff\xd8\xff\xe0\x00\x10JFIF\x00\x01\x01\x00\x00\x01\x00\x01\x00\x00")

func fill(b *testing.B, file string, size int64) {
	b.Helper()
	f, err := os.Create(file)
	require.NoError(b, err)
	_, err = f.Write(jpegHead)
	require.NoError(b, err)
	_, err = io.CopyN(f, rand.NewChaCha8(sha256.Sum256([]byte(file))), size-int64(len(jpegHead))) // no two are alike
	require.NoError(b, err)
	require.NoError(b, f.Close())
	past := time.Now().Add(-time.Hour)
	require.NoError(b, os.Chtimes(file, past, past))
}

func startApache(b *testing.B, dir string) *apache.Server {
	b.Helper()
	require.NoError(b, os.MkdirAll(dir, 0o755))
	a, err := apache.Start(b.Context(), dir, apache.Options{})
	require.NoError(b, err)
	b.Cleanup(func() { require.NoError(b, a.Close()) })
	return a
}

// upload runs a device until everything is sent, and then until it is safe. The
// network counts as metered until all is sent: so proofs, which are not asked
// for over such a network, stand apart; every send reserves its bytes, too.
func upload(b *testing.B, dir, where string, n int64) (sent, safe time.Duration) {
	b.Helper()
	var sense sensor.Set
	wired := gate.Conditions{Network: plan.Wired, Metered: gate.No, Roaming: gate.No, Charging: gate.Yes, Battery: -1}
	metered := wired
	metered.Metered = gate.Yes
	sense.Put(metered)
	s, done := open(b, dir, fmt.Sprintf(benchPlan, where), &sense)
	defer done()
	d, _ := s.Device("desk")
	began := time.Now()
	for safe == 0 {
		st, err := d.Told.Status(b.Context())
		require.NoError(b, err)
		if sent == 0 && st.States[queue.Proving].N+st.States[queue.Safe].N == n {
			sent = time.Since(began)
			sense.Put(wired)
		}
		if st.States[queue.Safe].N == n {
			safe = time.Since(began)
		}
		time.Sleep(50 * time.Millisecond)
	}
	return sent, safe
}

// open starts a service with one device whose sources lie in dir.
func open(b *testing.B, dir, text string, sense sensor.Sensor) (*service.Service, func()) {
	b.Helper()
	s, err := service.Open(b.Context(), service.Options{Dir: filepath.Join(dir, "data"),
		Log:     slog.New(slog.DiscardHandler),
		Members: []service.Local{{Name: "desk", Root: dir, Sensor: sense}}, Scan: scan.Options{}})
	require.NoError(b, err)
	if _, version := s.Book.Text(); version == 0 {
		_, err = s.Book.Apply(caller.AtTheMachine(b.Context()), "bench", text, 0)
		require.NoError(b, err)
	}
	ctx, cancel := context.WithCancel(b.Context())
	ran := make(chan error, 1)
	go func() { ran <- s.Run(ctx) }()
	return s, func() {
		cancel()
		require.NoError(b, <-ran)
		require.NoError(b, s.Close())
	}
}

func curl(b *testing.B, url string, files ...string) time.Duration {
	b.Helper()
	began := time.Now()
	for _, f := range files {
		out, err := exec.Command("curl", "-sS", "-f", "-T", f, url).CombinedOutput()
		require.NoError(b, err, "%s", out)
	}
	return time.Since(began)
}

// parallel sends files with one curl over four connections.
func parallel(b *testing.B, url string, files []string) time.Duration {
	b.Helper()
	var config strings.Builder
	for _, f := range files {
		fmt.Fprintf(&config, "upload-file = %q\nurl = %q\n", f, url)
	}
	file := b.TempDir() + "/curl"
	require.NoError(b, os.WriteFile(file, []byte(config.String()), 0o644))
	began := time.Now()
	out, err := exec.Command("curl", "-sS", "-f", "--parallel", "--parallel-max", "4", "-K", file).CombinedOutput()
	require.NoError(b, err, "%s", out)
	return time.Since(began)
}

// hashing is how long SHA-256 alone takes over files, one after the other: on a
// processor without instructions for it, that is most of the work.
func hashing(b *testing.B, files ...string) time.Duration {
	b.Helper()
	began := time.Now()
	for _, name := range files {
		f, err := os.Open(name)
		require.NoError(b, err)
		_, err = io.Copy(sha256.New(), f)
		require.NoError(b, err)
		require.NoError(b, f.Close())
	}
	return time.Since(began)
}

func many(b *testing.B, dir string, n int, size int64) []string {
	b.Helper()
	require.NoError(b, os.MkdirAll(dir+"/in", 0o755))
	var files []string
	for i := range n {
		files = append(files, fmt.Sprintf("%s/in/%05d.jpg", dir, i))
		fill(b, files[i], size)
	}
	return files
}

// rival does all of the work with well-kept programs: sends over four connections,
// hashes every file on two cores, fetches everything back, and hashes that.
func rival(b *testing.B, url string, files []string) time.Duration {
	b.Helper()
	dir := b.TempDir()
	list, config := dir+"/list", strings.Builder{}
	require.NoError(b, os.WriteFile(list, []byte(strings.Join(files, "\n")+"\n"), 0o644))
	back := dir + "/back"
	require.NoError(b, os.Mkdir(back, 0o755))
	var fetched []string
	for _, f := range files {
		at := filepath.Join(back, filepath.Base(f))
		fetched = append(fetched, at)
		fmt.Fprintf(&config, "url = %q\noutput = %q\n", url+filepath.Base(f), at)
	}
	require.NoError(b, os.WriteFile(dir+"/fetch", []byte(config.String()), 0o644))
	require.NoError(b, os.WriteFile(dir+"/fetched", []byte(strings.Join(fetched, "\n")+"\n"), 0o644))
	took := parallel(b, url, files)
	began := time.Now()
	for _, command := range []string{
		"xargs -P 2 -n 64 sha256sum < " + list + " > " + dir + "/sums",
		"curl -sS -f --parallel --parallel-max 4 -K " + dir + "/fetch",
		"xargs -P 2 -n 64 sha256sum < " + dir + "/fetched > " + dir + "/again",
	} {
		out, err := exec.Command("sh", "-c", command).CombinedOutput()
		require.NoError(b, err, "%s", out)
	}
	return took + time.Since(began)
}

// untilSafe runs a device from a plan to all safe.
func untilSafe(b *testing.B, dir, where string, n int64) time.Duration {
	b.Helper()
	var sense sensor.Set
	sense.Put(gate.Conditions{Network: plan.Wired, Metered: gate.No, Roaming: gate.No, Charging: gate.Yes, Battery: -1})
	began := time.Now()
	s, done := open(b, dir, fmt.Sprintf(benchPlan, where), &sense)
	defer done()
	d, _ := s.Device("desk")
	for {
		st, err := d.Told.Status(b.Context())
		require.NoError(b, err)
		if st.States[queue.Safe].N == n {
			return time.Since(began)
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// From a plan to all safe, against the rival that does all of it. Bounds: 0.9x for
// 1,000 files of 1 MiB, 1.5x for 5,000 of 50 KiB; medians of three in one run.
func BenchmarkUntilSafe(b *testing.B) {
	for _, c := range []struct {
		name  string
		n     int
		size  int64
		bound float64
	}{{"1000x1MiB", 1000, 1 << 20, 0.9}, {"5000x50KiB", 5000, 50 << 10, 1.5}} {
		b.Run(c.name, func(b *testing.B) {
			for range b.N {
				var ratios []float64
				var took time.Duration
				for range 3 {
					dir := b.TempDir()
					files := many(b, dir, c.n, c.size)
					a := startApache(b, dir+"/apache")
					reference := rival(b, a.URL, files)
					took = untilSafe(b, dir, onDAV(a.URL), int64(c.n))
					ratios = append(ratios, took.Seconds()/reference.Seconds())
				}
				slices.Sort(ratios)
				bounded(b, ratios[1], "safe/rival", c.bound)
				b.ReportMetric(took.Seconds()*1000/float64(c.n), "ms/file")
			}
		})
	}
}

// One file of 2 GiB to OpenSSH. Bound: 1.0x of sftp.
func BenchmarkTwoGiBToSSH(b *testing.B) {
	for range b.N {
		dir := b.TempDir()
		file := many(b, dir, 1, 2<<30)[0]
		for _, sub := range []string{"keys", "there", "reference"} {
			require.NoError(b, os.MkdirAll(dir+"/"+sub, 0o755))
		}
		s, err := sshd.Start(b.Context(), dir+"/keys", sshd.Options{})
		require.NoError(b, err)
		host, port, err := net.SplitHostPort(s.Address)
		require.NoError(b, err)
		batch := dir + "/batch"
		require.NoError(b, os.WriteFile(batch, fmt.Appendf(nil, "put %s %s/reference/\n", file, dir), 0o644))
		began := time.Now()
		out, err := exec.Command("sftp", "-q", "-b", batch, "-i", s.KeyFile, "-P", port, "-o", "StrictHostKeyChecking=no",
			"-o", "UserKnownHostsFile=/dev/null", s.User+"@"+host).CombinedOutput()
		require.NoError(b, err, "%s", out)
		reference := time.Since(began)
		require.NoError(b, os.RemoveAll(dir+"/reference"))
		where := fmt.Sprintf("kind: sftp, address: %q, user: %q, host-key: %q, key-from: %q, path: %q", s.Address, s.User,
			s.HostKey, "file:"+s.KeyFile, dir+"/there")
		sent, _ := upload(b, dir, where, 1)
		require.NoError(b, s.Close())
		b.ReportMetric(hashing(b, file).Seconds(), "hash-s")
		b.ReportMetric(reference.Seconds(), "sftp-s")
		bounded(b, sent.Seconds()/reference.Seconds(), "sent/sftp", 1)
	}
}

// One file of 2 GiB to the S3 gateway, against the client library's own upload
// in parts, and four of 1 GiB at once for the memory that takes.
func BenchmarkToS3(b *testing.B) {
	for range b.N {
		dir := b.TempDir()
		file := many(b, dir, 1, 2<<30)[0]
		g := &gateway.Server{Root: dir + "/gateway"}
		require.NoError(b, g.Start(b.Context(), "bench"))
		client, err := minio.New(g.Address, &minio.Options{Creds: credentials.NewStaticV4(g.User, g.Password, ""),
			Region: "us-east-1"})
		require.NoError(b, err)
		began := time.Now()
		_, err = client.FPutObject(b.Context(), "bench", "reference", file, minio.PutObjectOptions{})
		require.NoError(b, err)
		reference := time.Since(began)
		require.NoError(b, client.RemoveObject(b.Context(), "bench", "reference", minio.RemoveObjectOptions{}))
		secret := dir + "/secret"
		require.NoError(b, os.WriteFile(secret, []byte(g.Password), 0o600))
		where := fmt.Sprintf("kind: s3, url: %q, bucket: bench, user: %q, password-from: %q", g.Endpoint, g.User,
			"file:"+secret)
		sent, _ := upload(b, dir, where, 1)
		b.ReportMetric(hashing(b, file).Seconds(), "hash-s")
		require.NoError(b, os.Remove(file))
		four := dir + "/four"
		for i := range 4 {
			require.NoError(b, os.MkdirAll(four+"/in", 0o755))
			fill(b, fmt.Sprintf("%s/in/large%d.jpg", four, i), 1<<30)
		}
		resetPeak(b)
		upload(b, four, where, 4)
		bounded(b, peakMiB(b), "4x1GiB-peak-MiB", 100)
		require.NoError(b, g.Close())
		b.ReportMetric(reference.Seconds(), "library-s")
		b.ReportMetric(sent.Seconds()/reference.Seconds(), "sent/library")
	}
}

// One file of 2 GiB. Bounds: 1.1x of curl -T until it is sent, peak memory
// under 100 MiB.
func BenchmarkTwoGiB(b *testing.B) {
	for range b.N {
		dir := b.TempDir()
		require.NoError(b, os.MkdirAll(dir+"/in", 0o755))
		file := dir + "/in/large.jpg"
		fill(b, file, 2<<30)
		a := startApache(b, dir+"/apache")
		var reference []time.Duration
		for range 3 {
			reference = append(reference, curl(b, a.URL+"reference", file))
			// Its room, and the memory that it took, are free again for the next.
			require.NoError(b, os.Remove(filepath.Join(a.Root, "reference")))
		}
		slices.Sort(reference)
		resetPeak(b)
		sent, safe := upload(b, dir, onDAV(a.URL), 1)
		b.ReportMetric(hashing(b, file).Seconds(), "hash-s")
		b.ReportMetric(reference[1].Seconds(), "curl-s")
		bounded(b, sent.Seconds()/reference[1].Seconds(), "sent/curl", 1.1)
		b.ReportMetric(safe.Seconds()/reference[1].Seconds(), "safe/curl")
		bounded(b, peakMiB(b), "peak-MiB", 100)
	}
}

// Four files of 1 GiB at once to Apache. Bound: peak memory under 100 MiB.
func BenchmarkFourTimesOneGiB(b *testing.B) {
	for range b.N {
		dir := b.TempDir()
		require.NoError(b, os.MkdirAll(dir+"/in", 0o755))
		for i := range 4 {
			file := fmt.Sprintf("%s/in/large%d.jpg", dir, i)
			fill(b, file, 1<<20)
			require.NoError(b, os.Truncate(file, 1<<30)) // the rest is a hole
			past := time.Now().Add(-time.Hour)
			require.NoError(b, os.Chtimes(file, past, past))
		}
		a := startApache(b, dir+"/apache")
		resetPeak(b)
		upload(b, dir, onDAV(a.URL), 4)
		bounded(b, peakMiB(b), "peak-MiB", 100)
	}
}

// resetPeak lets the peak of memory begin anew.
// bounded reports a figure with the bound that it is to keep.
func bounded(b *testing.B, figure float64, unit string, most float64) {
	b.Helper()
	b.ReportMetric(figure, fmt.Sprintf("%s<=%g", unit, most))
}

func resetPeak(b *testing.B) {
	b.Helper()
	debug.FreeOSMemory()
	require.NoError(b, os.WriteFile("/proc/self/clear_refs", []byte("5"), 0))
}

func peakMiB(b *testing.B) float64 {
	b.Helper()
	text, err := os.ReadFile("/proc/self/status")
	require.NoError(b, err)
	for line := range strings.Lines(string(text)) {
		if rest, ok := strings.CutPrefix(line, "VmHWM:"); ok {
			kB, err := strconv.Atoi(strings.Fields(rest)[0])
			require.NoError(b, err)
			return float64(kB) / 1024
		}
	}
	require.Fail(b, "no peak told")
	return 0
}

// A million waiting copies: status and a page of the queue over the API, and
// what the core and the engine take to decide after a change of conditions.
// Bounds: 30 ms at the median for each call, 50 ms to decide in the core.
func BenchmarkMillionRows(b *testing.B) {
	dir := b.TempDir()
	r, err := records.Open(b.Context(), dir+"/data/devices/desk/records.db")
	require.NoError(b, err)
	rules := map[string]plan.Rule{"all": {Take: []media.Kind{media.Photo, media.Video}, To: []string{"storage"}}}
	began := time.Now()
	for i := 0; i < 1_000_000; i += 5000 {
		items := make([]records.Item, 5000)
		for j := range items {
			n := i + j
			items[j] = records.Item{Source: "in", Dir: strconv.Itoa(n / 5000), Name: strconv.Itoa(n) + ".jpg", Size: int64(n),
				Kind: []media.Kind{media.Photo, media.Video}[n%2], Rule: "all", ContentType: "image/jpeg", TakenMS: int64(n) * 600_000,
				Camera: []string{"", "Gull 7", "Heron"}[n%3]} // over 19 years
		}
		require.NoError(b, r.Catalogue.Admit(b.Context(), items, &plan.Plan{Rules: rules}, time.Now()))
	}
	require.NoError(b, r.Close())
	b.Logf("taking in a million items took %s", time.Since(began).Round(time.Second))
	require.NoError(b, os.Mkdir(dir+"/disk", 0o755))
	text := "yard: T\ntimezone: UTC\ndestinations:\n  storage: {kind: folder, path: " + dir +
		"/disk}\ndevices:\n  desk:\n    sources: [{folder: in, rule: all}]\nrules:\n  all: {take: [photo, video], to: " +
		"[storage], lanes: [{over: wifi}], gates: {power: charging}}\n"
	first, done := open(b, dir, text, &sensor.Set{}) // the plan is applied to them
	for d, _ := first.Device("desk"); ; time.Sleep(10 * time.Millisecond) {
		if st, err := d.Told.Status(b.Context()); err != nil || len(st.Sources) > 0 && !st.Sources[0].Scanned.IsZero() {
			require.NoError(b, err)
			break
		}
	}
	done()
	var sense sensor.Set
	sense.Put(gate.Conditions{Charging: gate.Yes, Battery: -1})
	debug.FreeOSMemory()
	began = time.Now()
	s, done := open(b, dir, text, &sense)
	defer done()
	for d, _ := s.Device("desk"); ; time.Sleep(time.Millisecond) {
		st, err := d.Told.Status(b.Context())
		require.NoError(b, err)
		if st.States[queue.Stuck].N+st.States[queue.Sending].N+st.States[queue.Preparing].N > 0 || len(st.Sources) > 0 && len(st.Sources[0].Problems) > 0 {
			break // it was looked for what is to go; its folder is not there
		}
	}
	start := time.Since(began)
	sense.Put(gate.Conditions{Charging: gate.No, Battery: -1})
	l, err := api.Listen("127.0.0.1:0")
	require.NoError(b, err)
	ctx, cancel := context.WithCancel(b.Context())
	served := make(chan error, 1)
	go func() { served <- api.New(s, fstest.MapFS{}, slog.New(slog.DiscardHandler)).Serve(ctx, l) }()
	defer func() { cancel(); require.NoError(b, <-served) }()
	token, err := os.ReadFile(dir + "/data/token")
	require.NoError(b, err)
	d, _ := s.Device("desk")
	for {
		st, err := d.Told.Status(b.Context())
		require.NoError(b, err)
		if len(st.Holds) > 0 && st.Holds[0].N > 900_000 {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	c := client.Client{URL: "http://" + l.Addr().String(), Token: strings.TrimSpace(string(token))}
	for range b.N {
		bounded(b, start.Seconds(), "start-s", 2)
		bounded(b, rss(b), "idle-MiB", 150)
		bounded(b, asked(b, c, 100, same("/api/v1/status")), "status-ms", 30)
		bounded(b, asked(b, c, 100, same("/api/v1/items")), "page-ms", 30)
		bounded(b, asked(b, c, 100, same("/api/v1/items?kind=video&hold=power")), "filtered-page-ms", 30)
		bounded(b, asked(b, c, 100, same("/api/v1/find?text=999123")), "find-ms", 30)
		began := time.Now()
		_, err := d.Told.Items(b.Context(), wire.Filter{After: d.Machine.(*device.Device).Records.Catalogue.Key(500_000),
			Limit: 100})
		require.NoError(b, err)
		bounded(b, float64(time.Since(began).Microseconds())/1000, "deep-page-ms", 30)
		bounded(b, rss(b), "reading-MiB", 150)
		// The library: its index is made at the first question. Bounds: 50 ms for each question, asked for the first time.
		began = time.Now()
		asked(b, c, 1, func(int) string { return "/api/v1/library" })
		b.ReportMetric(time.Since(began).Seconds(), "library-begun-s")
		bounded(b, rss(b), "library-MiB", 350)
		for name, path := range map[string]func(int) string{
			"library-first-ms":  func(int) string { return "/api/v1/library/items?limit=120" },
			"library-jump-ms":   func(n int) string { return fmt.Sprintf("/api/v1/library/items?limit=120&offset=%d", 9973*n) },
			"library-name-ms":   func(n int) string { return fmt.Sprintf("/api/v1/library?text=%d", 4000+n) },
			"library-camera-ms": func(n int) string { return fmt.Sprintf("/api/v1/library?camera=Heron&text=%d", n) },
			"library-year-ms": func(n int) string {
				return fmt.Sprintf("/api/v1/library?kind=video&from=%d-%02d-01&to=%d-12-31", 1970+n%19, 1+n%12, 1970+n%19)
			},
			"library-folder-ms": func(n int) string { return fmt.Sprintf("/api/v1/library?folder=in/%d", n) },
		} {
			bounded(b, asked(b, c, 100, path), name, 50)
		}
		s.Library.Close()
		debug.FreeOSMemory()
		// Trying a plan. Bound: 2 s, however it decides, and with nothing of the records in memory.
		try := func(name, change string) {
			other := strings.Replace(strings.Replace(text, "take: [photo, video]", change, 1), "yard: T", "format: 2\nyard: T",
				1)
			began := time.Now()
			tried, err := s.Trials.TryPlan(b.Context(), "plan", other)
			require.NoError(b, err)
			require.NotEmpty(b, tried.Devices[0].Left)
			bounded(b, time.Since(began).Seconds(), name, 2)
		}
		try("try-kinds-s", "take: [photo, raw, document]")
		try("try-scope-s", "take: [photo, video], larger-than: 300 kB")
		if forget() {
			try("try-cold-s", "take: [photo, video], larger-than: 400 kB")
		}
	}
}

// forget has the system drop what it keeps of files in memory (proc_sys_vm(5)); false where this user may
// not.
func forget() bool {
	if exec.Command("sync").Run() != nil {
		return false
	}
	return os.WriteFile("/proc/sys/vm/drop_caches", []byte("3"), 0) == nil
}

// A look at 100,000 files, every one opened and told by its content, against find(1)
// listing them with their sizes. Bounds: first figures within 0.3 s, all within 10x. And a look for strays among
// them, by their names. Bound: 3x.
func BenchmarkLook(b *testing.B) {
	dir := b.TempDir()
	photo, err := standin.JPEG(1, 64, time.Now())
	require.NoError(b, err)
	for i := range 100_000 {
		folder := filepath.Join(dir, strconv.Itoa(i/500))
		if i%500 == 0 {
			require.NoError(b, os.Mkdir(folder, 0o755))
		}
		require.NoError(b, os.WriteFile(filepath.Join(folder, strconv.Itoa(i)+".jpg"), photo, 0o644))
	}
	for range b.N {
		began := time.Now()
		out, err := exec.Command("find", dir, "-type", "f", "-printf", "%s %p\\n").Output()
		require.NoError(b, err)
		require.NotEmpty(b, out)
		find := time.Since(began)
		began = time.Now()
		var first time.Duration
		sum, err := look.At(b.Context(), dir, look.Options{}, func(s look.Totals) {
			if first == 0 && s.All.N > 0 {
				first = time.Since(began)
			}
		})
		require.NoError(b, err)
		require.Equal(b, int64(100_000), sum.Known)
		bounded(b, first.Seconds(), "first-s", 0.3)
		b.ReportMetric(time.Since(began).Seconds(), "all-s")
		bounded(b, float64(time.Since(began))/float64(find), "x-find", 10)
		began = time.Now()
		found, err := stray.Look(b.Context(), stray.Options{Root: dir})
		require.NoError(b, err)
		require.Equal(b, int64(100_000), found.Outside.N)
		bounded(b, float64(time.Since(began))/float64(find), "strays-x-find", 3)
	}
}

// same is one path, however often it is asked for.
func same(path string) func(int) string { return func(int) string { return path } }

// asked is how long an answer of the API takes, the median of some in milliseconds.
func asked(b *testing.B, c client.Client, times int, path func(n int) string) float64 {
	b.Helper()
	var took []time.Duration
	for n := range times {
		req, err := http.NewRequest("GET", c.URL+path(n), nil)
		require.NoError(b, err)
		req.Header.Set("Authorization", "Bearer "+c.Token)
		began := time.Now()
		res, err := http.DefaultClient.Do(req)
		require.NoError(b, err)
		_, err = io.Copy(io.Discard, res.Body)
		require.NoError(b, err)
		require.NoError(b, res.Body.Close())
		took = append(took, time.Since(began))
		require.Equal(b, 200, res.StatusCode)
	}
	slices.Sort(took)
	return float64(took[times/2].Microseconds()) / 1000
}

// rss is what the process holds in memory now (proc_pid_status(5)), the bench with it.
func rss(b *testing.B) float64 {
	b.Helper()
	text, err := os.ReadFile("/proc/self/status")
	require.NoError(b, err)
	_, after, _ := strings.Cut(string(text), "VmRSS:")
	kib, err := strconv.ParseFloat(strings.Fields(after)[0], 64)
	require.NoError(b, err)
	return kib / 1024
}

// Idle with 100,000 watched folders of one file, once all is known. Bound: 0.05% of a core.
func BenchmarkIdle(b *testing.B) {
	for range b.N {
		dir := b.TempDir()
		const folders = 100_000
		for i := range folders {
			in := fmt.Sprintf("%s/in/%03d/%03d", dir, i/1000, i%1000)
			require.NoError(b, os.MkdirAll(in, 0o755))
			require.NoError(b, os.WriteFile(in+"/larch.txt", []byte("larch"), 0o644))
		}
		s, done := open(b, dir, fmt.Sprintf(benchPlan, nowhere), &sensor.Set{})
		d, _ := s.Device("desk")
		for known := false; !known; time.Sleep(500 * time.Millisecond) {
			st, err := d.Told.Status(b.Context())
			require.NoError(b, err)
			known = len(st.Sources) > 0 && !st.Sources[0].Scanned.IsZero()
		}
		time.Sleep(3 * time.Second)
		before := cpu(b)
		const span = 35 * time.Second // the first look for strays comes a minute after the start
		time.Sleep(span)
		bounded(b, 100*float64(cpu(b)-before)/float64(span), "%core", 0.05)
		bounded(b, rss(b), "MiB", 150)
		done()
	}
}

func cpu(b *testing.B) time.Duration {
	b.Helper()
	var u syscall.Rusage
	require.NoError(b, syscall.Getrusage(syscall.RUSAGE_SELF, &u))
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}
