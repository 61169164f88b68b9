package bench

import (
	"bufio"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yardtide/client"
	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/queue"
	"yardtide/engine/records"
	"yardtide/wire"
	"yardtide/wire/planwire"
)

const linkPlan = `format: 2
yard: Slip
timezone: UTC
destinations:
  away: {kind: sftp, address: "127.0.0.1:1", host-key: "SHA256:AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA", user: x, key-from: "file:/nowhere"}
devices:
  desk: {sources: [{folder: in, rule: everyday}]}
  phone: {sources: [{folder: in, rule: everyday}]}
  other: {sources: [{folder: in, rule: everyday}]}
rules:
  everyday: {take: [photo, document], to: [away], lanes: [{over: cellular}]}
`

// process is a yardtide that runs until the benchmark ends.
type process struct {
	cmd  *exec.Cmd
	data string
	url  string
}

func begin(b *testing.B, data string, args ...string) process {
	b.Helper()
	cmd := exec.Command("../bin/yardtide", args...)
	out, err := cmd.StdoutPipe()
	require.NoError(b, err)
	require.NoError(b, cmd.Start())
	b.Cleanup(func() { _ = cmd.Process.Signal(os.Interrupt); _ = cmd.Wait() })
	p := process{cmd: cmd, data: data}
	for lines := bufio.NewScanner(out); lines.Scan(); {
		if address, is := strings.CutPrefix(lines.Text(), "service   "); is {
			p.url, _, _ = strings.Cut(address, ",")
		}
		if strings.HasPrefix(lines.Text(), "console ") {
			return p
		}
	}
	b.Fatal("it did not start")
	return p
}

func (p process) client(b *testing.B) client.Client {
	token, err := os.ReadFile(filepath.Join(p.data, "token"))
	require.NoError(b, err)
	return client.Client{URL: p.url, Token: strings.TrimSpace(string(token))}
}

// peak is the most memory that a process had, in MiB.
func (p process) peak(b *testing.B) float64 {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", p.cmd.Process.Pid))
	require.NoError(b, err)
	for _, line := range strings.Split(string(text), "\n") {
		if rest, is := strings.CutPrefix(line, "VmHWM:"); is {
			kB, err := strconv.ParseFloat(strings.Fields(rest)[0], 64)
			require.NoError(b, err)
			return kB / 1024
		}
	}
	return 0
}

func told(y wire.Yard, name string) (n int64, whole bool) {
	for _, d := range y.Devices {
		if d.Name == name && d.Link != nil {
			return d.States[queue.Waiting].N, !d.Link.Telling
		}
	}
	return 0, false
}

// serve runs a yard's service, with its own device desk, that devices elsewhere call at home.
func serve(b *testing.B, dir, home string) process {
	b.Helper()
	return begin(b, dir+"/data", "serve", "-data", dir+"/data", "-device", "desk", "-root", dir+"/desk", "-listen",
		"127.0.0.1:0", "-home-network", home)
}

// join has a device join, whose conditions are read from a file.
func join(b *testing.B, c client.Client, dir, name string) {
	b.Helper()
	var code wire.JoinCode
	require.Eventually(b, func() (is bool) {
		var err error
		code, err = c.AddDevice(b.Context(), name)
		return err == nil
	}, time.Minute, 50*time.Millisecond)
	out, err := exec.Command("../bin/yardtide", "device", "join", code.Code, "-data",
		dir+"/"+name+"/data").CombinedOutput()
	require.NoError(b, err, "%s", out)
	text, err := json.Marshal(map[string]any{"network": "wifi", "metered": "no", "roaming": "no", "charging": "yes",
		"battery": 80, "use": "idle"})
	require.NoError(b, err)
	require.NoError(b, os.WriteFile(dir+"/"+name+"/conditions", text, 0o644))
}

// run runs a device that joined.
func run(b *testing.B, dir, name string) process {
	b.Helper()
	return begin(b, dir+"/"+name+"/data", "device", "run", "-data", dir+"/"+name+"/data", "-root", dir+"/"+name,
		"-listen", "127.0.0.1:0", "-conditions", dir+"/"+name+"/conditions")
}

// know puts items into the records of a device that joined.
func know(b *testing.B, dir, name string, n int) {
	b.Helper()
	r, err := records.Open(b.Context(), fmt.Sprintf("%s/%s/data/devices/%s/records.db", dir, name, name))
	require.NoError(b, err)
	rules := map[string]plan.Rule{"everyday": {Take: []media.Kind{media.Photo}, To: []string{"away"}}}
	for i := 0; i < n; i += 5000 {
		items := make([]records.Item, 5000)
		for j := range items {
			k := i + j
			items[j] = records.Item{Source: "in", Dir: strconv.Itoa(k / 1000), Name: fmt.Sprintf("IMG_%07d.jpg", k),
				Size: int64(2_000_000 + k), MTime: int64(k), Inode: int64(k), Kind: media.Photo, Rule: "everyday",
				ContentType: "image/jpeg", TakenMS: int64(k) * 600_000, Look: fmt.Sprintf("%016x", k*7919)}
		}
		require.NoError(b, r.Catalogue.Admit(b.Context(), items, &plan.Plan{Rules: rules}, time.Now()))
	}
	require.NoError(b, r.Close())
}

// A million items told for the first time, between two processes; meanwhile and after, how
// long a change of another device, and a later one of this, takes to be seen. Bounds:
// 200 s and 200 MiB at each end; 2 s meanwhile; 1 s after.
func BenchmarkFirstTold(b *testing.B) {
	n := 1_000_000
	dir := b.TempDir()
	for _, folder := range []string{"desk/in", "other/in"} {
		require.NoError(b, os.MkdirAll(filepath.Join(dir, folder), 0o755))
	}
	s := serve(b, dir, "127.0.0.1:0")
	c := s.client(b)
	_, err := c.Plans().Apply(b.Context(), planwire.PlanChange{Text: linkPlan})
	require.NoError(b, err)
	join(b, c, dir, "other")
	o := run(b, dir, "other")
	join(b, c, dir, "phone")
	know(b, dir, "phone", n)
	write := func(name string, i int) {
		require.NoError(b, os.WriteFile(fmt.Sprintf("%s/%s/in/%d.txt", dir, name, i), []byte(strconv.Itoa(i)), 0o644))
	}
	began := time.Now()
	p := run(b, dir, "phone")
	var worst time.Duration
	others, wrote := int64(0), time.Now()
	write("other", 0)
	for {
		y, err := c.Status(b.Context())
		require.NoError(b, err)
		if seen, _ := told(y, "other"); seen > others {
			worst = max(worst, time.Since(wrote))
			others = seen
			write("other", int(others))
			wrote = time.Now()
		}
		if got, whole := told(y, "phone"); whole && got == int64(n) {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	bounded(b, time.Since(began).Seconds(), "s-told", 200)
	bounded(b, s.peak(b), "MiB-service", 200)
	bounded(b, p.peak(b), "MiB-device", 200)
	b.ReportMetric(worst.Seconds(), "s-other-meanwhile") // with what its own scan takes: a file must be quiet first
	bounded(b, paused(b, c, o, "other").Seconds(), "s-later-change", 1)
	b.ReportMetric(0, "ns/op")
}

// paused is how long a pause that is ordered at a device takes to be seen at the service.
func paused(b *testing.B, c client.Client, o process, name string) time.Duration {
	b.Helper()
	changed := time.Now()
	require.NoError(b, o.client(b).Pause(b.Context(), "", time.Time{}))
	for {
		y, err := c.Status(b.Context())
		require.NoError(b, err)
		for _, d := range y.Devices {
			if d.Name == name && d.Pause.On {
				return time.Since(changed)
			}
		}
	}
}
