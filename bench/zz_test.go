package bench
import ("testing";"os";"runtime/pprof";"time";"fmt";"syscall";"path/filepath";"strings"
	"yardtide/core/gate";"yardtide/core/plan";"yardtide/core/queue";"yardtide/engine/sensor";"github.com/stretchr/testify/require")
func apacheCPU() (t float64) {
	fs,_:=filepath.Glob("/proc/[0-9]*/stat")
	for _,f:=range fs { x,_:=os.ReadFile(f); if strings.Contains(string(x),"(apache2)") { p:=strings.Fields(string(x)[strings.Index(string(x),")")+2:]); var u,s float64; fmt.Sscan(p[11],&u); fmt.Sscan(p[12],&s); t+=(u+s)/100 } }
	return
}
func BenchmarkZZ(b *testing.B) {
	dir := b.TempDir()
	n:=1000
	many(b, dir, n, 1<<20)
	a := startApache(b, dir+"/apache")
	var sense sensor.Set
	wired := gate.Conditions{Network: plan.Wired, Charging: true, Battery: -1}
	metered := wired
	metered.Metered = true
	if os.Getenv("FREE")!="" { metered.Metered=false }
	sense.Put(metered)
	var ru0,ru1 syscall.Rusage; syscall.Getrusage(0,&ru0)
	a0:=apacheCPU()
	f,_:=os.Create("/tmp/zz.prof"); pprof.StartCPUProfile(f)
	s, done := open(b, dir, fmt.Sprintf(benchPlan, onDAV(a.URL)), &sense)
	defer done()
	d, _ := s.Device("desk")
	began := time.Now()
	for {
		st, err := d.Status(b.Context())
		require.NoError(b, err)
		if st.States[queue.Proving].N+st.States[queue.Safe].N == int64(n) { break }
		time.Sleep(50 * time.Millisecond)
	}
	took:=time.Since(began)
	pprof.StopCPUProfile(); f.Close()
	syscall.Getrusage(0,&ru1)
	b.Logf("took %s own cpu %.2f apache %.2f", took, float64(ru1.Utime.Nano()+ru1.Stime.Nano()-ru0.Utime.Nano()-ru0.Stime.Nano())/1e9, apacheCPU()-a0)
}
