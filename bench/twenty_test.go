package bench

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yardtide/client"
	"yardtide/wire/planwire"
)

const (
	twenty   = 20
	itemsOf  = 200_000
	statusIn = 5 * time.Minute
)

// A yard of twenty devices elsewhere with 200,000 items each: the status and a page of items over the
// API (medians of 100), a change at a device until the service tells it, the service's memory, and what it
// takes while nothing happens. One device tells its items; the others begin with the same records, at
// both ends of the link. Bounds: 20 ms; 20 ms; 1 s; 300 MiB; 0.1 % of a core for ten.
func BenchmarkTwentyDevices(b *testing.B) {
	dir := b.TempDir()
	require.NoError(b, os.MkdirAll(dir+"/desk/in", 0o755))
	text, names := strings.Replace(linkPlan, "  phone: {sources: [{folder: in, rule: everyday}]}\n", "", 1), []string(nil)
	for i := range twenty {
		names = append(names, fmt.Sprintf("phone-%02d", i))
		text = strings.Replace(text, "rules:\n", fmt.Sprintf("  %s: {sources: [{folder: in, rule: everyday}]}\nrules:\n",
			names[i]), 1)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(b, err)
	home := l.Addr().String() // the service is started again, where the devices call it
	require.NoError(b, l.Close())
	s := serve(b, dir, home)
	c := s.client(b)
	_, err = c.Plans().Apply(b.Context(), planwire.PlanChange{Text: text})
	require.NoError(b, err)
	for _, name := range names {
		require.NoError(b, os.MkdirAll(filepath.Join(dir, name), 0o755))
		join(b, c, dir, name)
	}
	know(b, dir, names[0], itemsOf)
	first := run(b, dir, names[0])
	allTold(b, c, names[:1])
	first.end(b)
	s.end(b)
	for _, name := range names[1:] {
		copyTo(b, recordsOf(dir, names[0]), recordsOf(dir, name))
		mirrors, err := filepath.Glob(dir + "/data/devices/" + names[0] + "/mirror-*.db")
		require.NoError(b, err)
		require.NotEmpty(b, mirrors)
		for _, file := range mirrors {
			copyTo(b, file, filepath.Join(dir, "data/devices", name, filepath.Base(file)))
		}
	}
	s = serve(b, dir, home)
	c = s.client(b)
	var devices []process
	for _, name := range names {
		devices = append(devices, run(b, dir, name))
	}
	allTold(b, c, names)
	time.Sleep(5 * time.Second)
	for range b.N {
		bounded(b, asked(b, c, 100, same("/api/v1/status")), "status-ms", 20)
		bounded(b, asked(b, c, 100, same("/api/v1/items")), "page-ms", 20)
		bounded(b, asked(b, c, 100, same("/api/v1/items?device=phone-13&kind=photo")), "filtered-page-ms", 20)
		bounded(b, paused(b, c, devices[7], names[7]).Seconds(), "s-change", 1)
		before := s.cpu(b)
		const span = 30 * time.Second
		time.Sleep(span)
		bounded(b, 100*float64(s.cpu(b)-before)/float64(span), "%core-idle", 0.2)
		bounded(b, s.peak(b), "MiB-service", 300)
		b.ReportMetric(0, "ns/op")
	}
}

func recordsOf(dir, name string) string {
	return fmt.Sprintf("%s/%s/data/devices/%s/records.db", dir, name, name)
}

func copyTo(b *testing.B, from, to string) {
	b.Helper()
	in, err := os.Open(from)
	require.NoError(b, err)
	defer in.Close()
	require.NoError(b, os.MkdirAll(filepath.Dir(to), 0o700))
	out, err := os.Create(to)
	require.NoError(b, err)
	_, err = io.Copy(out, in)
	require.NoError(b, err)
	require.NoError(b, out.Close())
}

// allTold waits until the service knows all items of devices.
func allTold(b *testing.B, c client.Client, names []string) {
	b.Helper()
	require.Eventually(b, func() bool {
		y, err := c.Status(b.Context())
		require.NoError(b, err)
		return !slices.ContainsFunc(names, func(name string) bool {
			n, whole := told(y, name)
			return n != itemsOf || !whole
		})
	}, statusIn, 100*time.Millisecond)
}

// end stops a process in order.
func (p process) end(b *testing.B) {
	b.Helper()
	require.NoError(b, p.cmd.Process.Signal(os.Interrupt))
	require.NoError(b, p.cmd.Wait())
}

// cpu is the processor time that a process has taken (proc_pid_stat(5), in ticks of 10 ms).
func (p process) cpu(b *testing.B) time.Duration {
	b.Helper()
	f, err := os.Open(fmt.Sprintf("/proc/%d/stat", p.cmd.Process.Pid))
	require.NoError(b, err)
	defer f.Close()
	line, err := bufio.NewReader(f).ReadString('\n')
	require.NoError(b, err)
	_, after, _ := strings.Cut(line, ") ")
	fields := strings.Fields(after)
	var user, system int64
	_, err = fmt.Sscan(fields[11]+" "+fields[12], &user, &system)
	require.NoError(b, err)
	return time.Duration(user+system) * 10 * time.Millisecond
}
