package standin

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"yardtide/core/gate"
	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/engine/sensor"
	"yardtide/engine/volume"
)

// Demo is the demo yard: a household that restores old boats in a tidal yard,
// with a phone, a computer and a storage. It is made once; a later start finds
// it as it was left.
type Demo struct {
	Storage  Storage
	Phone    Phone
	Desk     sensor.Set // what the machine senses where the service runs, with the inboxes of phones
	Computer Phone      // on mains and a wire, which takes no pictures of its own
	Away     []*Phone   // devices that run in processes of their own, the computer last; none where it is alone
	Clock    Clock      // of all simulated devices
	dir      string
	Plan     string // YAML
	Others   *Others
	Items    int
}

// DemoOptions tune the demo.
type DemoOptions struct {
	Dir     string
	Items   int    // about how many; 120 when 0
	Listen  string // of the storage
	Rate    int64  // bytes a second that the storage takes; 0 is no limit
	Log     *slog.Logger
	NoClips bool
	Alone   bool  // only the simulated storage
	Room    int64 // what that holds, in bytes
}

const demoPlan = `# The plan of the demo yard. docs/plan.md tells every key.
format: 2
yard: Saltmarsh Slip
timezone: Europe/Lisbon

destinations:
  north-locker:
    kind: webdav
    url: %s
    user: slip
    password-from: file:%s
    layout: "{year}/{month}/{name}"
    keep-free: 8 MB

devices:
  galley-phone:
    sources:
      - folder: DCIM
        rule: everyday
  chart-table:
    sources:
      - folder: Restoration
        rule: bench

rules:
  everyday:
    take: [photo, raw, graphic, video]
    to: [north-locker]
    lanes:
      - over: wifi
      - over: cellular
        take: [photo]
        allowance: 6 MB per day
    gates:
      power: charging or at least 40%%
  bench:
    take: [photo, raw, graphic, video]
    to: [north-locker]
    lanes:
      - over: wifi
        take: [photo, raw, graphic]
      - over: wifi
        take: [video]
        gates:
          hours: 22:00-06:00
`

// StartDemo makes the yard where it is missing and starts its storage.
func StartDemo(ctx context.Context, o DemoOptions) (*Demo, error) {
	if o.Items == 0 {
		o.Items = 120
	}
	dir, err := filepath.Abs(o.Dir)
	if err != nil {
		return nil, fmt.Errorf("finding the demo's folder: %w", err)
	}
	d := &Demo{
		Storage: Storage{Dir: filepath.Join(dir, "north-locker"), User: "slip", Password: "low tide at six", Limit: o.Room,
			Rate: o.Rate},
		Phone: Phone{Name: "galley-phone", Root: filepath.Join(dir, "galley-phone"), Camera: "DCIM/Camera",
			Modem: gate.Yes, Day: phoneDay},
		Computer: Phone{Name: "chart-table", Root: filepath.Join(dir, "chart-table"), Camera: "Restoration/Scans",
			Modem: gate.No, Day: deskDay},
		Items: o.Items,
		dir:   dir,
	}
	d.Computer.Card = volume.Volume{ID: "7C1E-40B2", Label: "Dinghy camera", Root: filepath.Join(dir, "card")}
	d.Clock.Set(hour(17), 0)
	if !o.Alone {
		d.Away = []*Phone{
			{Name: "deck-phone", Camera: "DCIM/Camera", Modem: gate.Yes, Day: secondDay},
			{Name: "logbook-tablet", Camera: "Pictures/Log", Modem: gate.No, Day: tabletDay},
			{Name: "ferry-laptop", Camera: "Pictures/Ferry", Modem: gate.No, Day: laptopDay},
			&d.Computer,
		}
		for _, p := range d.Away {
			p.Root = filepath.Join(dir, p.Name)
			p.File = filepath.Join(p.Root, "conditions.json")
		}
	}
	_ = d.Phone.Set(gate.Conditions{Network: plan.Cellular, Roaming: gate.No, Charging: gate.No, Metered: gate.Yes,
		Battery: 64, Use: gate.InUse})
	desk := gate.Conditions{Network: plan.Wired, Charging: gate.Yes, Roaming: gate.No, Metered: gate.No, Battery: -1, Use: gate.UseUnknown}
	d.Desk.Put(desk)
	if o.Alone {
		_ = d.Computer.Set(desk)
	}
	if err := d.make(ctx, dir, o); err != nil {
		return nil, fmt.Errorf("making the demo yard in %s: %w", dir, err)
	}
	if err := d.Storage.Start(o.Listen); err != nil {
		return nil, err
	}
	secret := filepath.Join(dir, "north-locker.password")
	if err := os.WriteFile(secret, []byte(d.Storage.Password+"\n"), 0o600); err != nil {
		return nil, errors.Join(fmt.Errorf("keeping the storage's password: %w", err), d.Storage.Close())
	}
	d.Plan = fmt.Sprintf(demoPlan, d.Storage.URL(), secret)
	d.Others = &Others{}
	if o.Alone {
		return d, nil
	}
	if d.Others, err = startOthers(ctx, dir, o.Log); err == nil {
		d.Plan, err = withOthers(d.Plan, d.Others)
	}
	if err == nil {
		d.Plan = withAway(d.Plan)
	}
	for _, p := range d.Away {
		if err == nil {
			err = p.Follow(hour(17))
		}
	}
	if err != nil {
		return nil, errors.Join(err, d.Storage.Close())
	}
	return d, nil
}

// Live has the simulated devices follow their days until the context ends.
func (d *Demo) Live(ctx context.Context) error {
	tick := time.NewTicker(250 * time.Millisecond)
	defer tick.Stop()
	appears := time.NewTimer(appearsAfter)
	defer appears.Stop()
	for {
		at, _ := d.Clock.Now()
		for _, p := range d.All() {
			if err := p.live(at); err != nil {
				return err
			}
		}
		select {
		case <-ctx.Done():
			return nil
		case <-appears.C:
			if err := d.appear(ctx); err != nil {
				return err
			}
		case <-tick.C:
		}
	}
}

// appearsAfter is when a program on the computer makes a folder of its own: the device knows by then what was there.
const appearsAfter = 80 * time.Second

// appear makes a folder with pictures beside those of the computer, once.
func (d *Demo) appear(ctx context.Context) error {
	in := filepath.Join(d.Computer.Root, "Tide app")
	if _, err := os.Stat(in); err == nil {
		return nil
	}
	g, ctx := errgroup.WithContext(ctx)
	m := making{Group: g, ctx: ctx}
	for i := range 3 {
		taken := firstTaken.Add(time.Duration(i) * 26 * time.Hour)
		m.write(filepath.Join(in, fmt.Sprintf("moon-%d.jpg", i)), taken, func() ([]byte, error) { return JPEG(990+i, 700, taken) })
	}
	return g.Wait()
}

// All are the simulated devices.
func (d *Demo) All() []*Phone { return append([]*Phone{&d.Phone}, d.Away...) }

// withAway puts the devices that run by themselves into the demo's plan: two people's, with
// what only they can feel.
func withAway(text string) string {
	before, after, _ := strings.Cut(text, "  chart-table:\n")
	return strings.Replace(before, "timezone: Europe/Lisbon\n", "timezone: Europe/Lisbon\nhome-networks: [Saltmarsh Slip]\npeople: [ines, tom]\n\nrenditions:\n  family: {long-edge: 720}\n  pocket: {long-edge: 480, quality: 70}\n  tiny: {long-edge: 240, quality: 60}\n", 1) + `  deck-phone:
    person: tom
    sources:
      - folder: DCIM
        rule: travels
  logbook-tablet:
    person: ines
    sources:
      - folder: Pictures
        rule: at-rest
  ferry-laptop:
    person: tom
    sources:
      - folder: Pictures
        rule: travels
  chart-table:
` + after + `  travels:
    take: [photo, raw, graphic, video]
    send: {photo: family}
    to: [north-locker]
    lanes:
      - over: wifi
        not-named: [Harbour Café]
      - over: cellular
        send: pocket
        take: [photo]
        allowance: 3 MB per day
        metered-wifi: true
        roaming: true
        roaming-allowance: 1 MB per day
    previews: tiny
    also:
      - when: rated 4
        layout: "best/{year}/{caption}"
  at-rest:
    take: [photo, raw, graphic, video]
    to: [north-locker]
    lanes:
      - over: wifi
        home-only: true
    gates:
      rest: 1 min
`
}

// Close stops the storages.
func (d *Demo) Close() error {
	return errors.Join(d.Storage.Close(), d.Others.Close())
}

// likes is a sidecar as programs write them (ISO 16684-1).
const likes = `<?xpacket begin="" id="W5M0MpCehiHzreSzNTczkc9d"?>
<x:xmpmeta xmlns:x="adobe:ns:meta/"><rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#">
<rdf:Description rdf:about="" xmlns:xmp="http://ns.adobe.com/xap/1.0/" xmlns:dc="http://purl.org/dc/elements/1.1/" xmp:Rating="5">
<dc:description><rdf:Alt><rdf:li xml:lang="x-default">Curlew at low tide</rdf:li></rdf:Alt></dc:description>
<dc:subject><rdf:Bag><rdf:li>curlew</rdf:li></rdf:Bag></dc:subject>
</rdf:Description></rdf:RDF></x:xmpmeta>
<?xpacket end="w"?>
`

var boats = []string{"Curlew", "Grey Wagtail", "Samphire", "Old Margery"}
var jobs = []string{"hull", "planks", "deck", "mast", "varnish"}

// make generates the pictures, unless an earlier start finished that.
func (d *Demo) make(ctx context.Context, dir string, o DemoOptions) error {
	mark := filepath.Join(dir, "made")
	if _, err := os.Stat(mark); err == nil {
		return nil
	} else if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	camera, bench := d.camera(), d.bench()
	if err := errors.Join(os.MkdirAll(camera, 0o755), os.MkdirAll(bench, 0o755)); err != nil {
		return err
	}
	clips := !o.NoClips
	if _, err := exec.LookPath("ffmpeg"); err != nil && clips {
		clips = false
		o.Log.Warn("the demo has no video clips: ffmpeg is not installed (Debian: apt-get install ffmpeg)")
	}
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(4)
	m := making{Group: g, ctx: ctx, clips: clips}
	if err := d.away(m); err != nil {
		return errors.Join(err, g.Wait())
	}
	half := o.Items / 2
	d.gallery(m, half)
	d.restored(m, o.Items-half)
	d.untidy(m)
	d.strays(m)
	d.card(m)
	if err := g.Wait(); err != nil {
		return err
	}
	return os.WriteFile(mark, []byte("The demo's pictures are complete. Remove this folder to begin anew.\n"), 0o644)
}

// The clock of the demo's cameras, and when the first of the gallery was taken.
var (
	cameraZone = time.FixedZone("", 3600)
	firstTaken = time.Date(2026, 8, 14, 9, 12, 0, 0, cameraZone)
)

func (d *Demo) camera() string { return filepath.Join(d.Phone.Root, "DCIM", "Camera") }
func (d *Demo) bench() string  { return filepath.Join(d.Computer.Root, "Restoration") }

// making makes the demo's files, some beside one another.
type making struct {
	*errgroup.Group
	ctx   context.Context
	clips bool
}

func (m making) write(file string, taken time.Time, content func() ([]byte, error)) {
	m.Go(func() error {
		if m.ctx.Err() != nil {
			return m.ctx.Err()
		}
		b, err := content()
		if err != nil {
			return err
		}
		if err := errors.Join(os.MkdirAll(filepath.Dir(file), 0o755), os.WriteFile(file, b, 0o644)); err != nil {
			return err
		}
		return os.Chtimes(file, taken, taken)
	})
}

func (m making) clip(file string, n int, taken time.Time) {
	m.Go(func() error {
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			return err
		}
		frames := 30 + n%3*9
		if n%20 == 7 {
			frames = 260 // some are long
		}
		if err := Clip(file, n, 480, frames, taken); err != nil {
			return err
		}
		return os.Chtimes(file, taken, taken)
	})
}

// away makes pictures of the devices elsewhere.
func (d *Demo) away(m making) error {
	for i, p := range d.Away {
		for n := range 6 {
			if p == &d.Computer {
				break // it has what was restored
			}
			taken := firstTaken.Add(time.Duration(60+31*n+7*i) * time.Hour)
			m.write(filepath.Join(p.Root, p.Camera, fmt.Sprintf("%s_%02d.jpg", []string{"DECK", "LOG", "FERRY"}[i%3], n)),
				taken, func() ([]byte, error) { return JPEG(700+10*i+n, 1000, taken) })
		}
		if err := os.MkdirAll(p.Root, 0o755); err != nil {
			return err
		}
		if i == 0 { // one that somebody likes
			marked := filepath.Join(p.Root, p.Camera, "DECK_02.xmp")
			m.write(marked, firstTaken, func() ([]byte, error) { return []byte(likes), nil })
		}
	}
	return nil
}

// gallery makes n pictures and clips of the phone.
func (d *Demo) gallery(m making, n int) {
	camera := d.camera()
	for i := range n {
		taken := firstTaken.Add(time.Duration(i) * 37 * time.Hour)
		switch {
		case i%10 == 7 && m.clips:
			m.clip(filepath.Join(camera, fmt.Sprintf("MOV_%04d.mp4", 310+i)), i, taken)
		case i%15 == 4:
			m.write(filepath.Join(d.Phone.Root, "DCIM", "Screens", fmt.Sprintf("tide-table-%02d.png", i)), taken,
				func() ([]byte, error) { return PNG(i, 480) })
		default:
			m.write(filepath.Join(camera, fmt.Sprintf("IMG_%04d.jpg", 4000+i)), taken,
				func() ([]byte, error) { return JPEGAt(i, 1100, taken, takenAt(i)) })
		}
	}
}

// takenAt is where picture n of the phone was taken: mostly at the yard, some on the way.
func takenAt(n int) media.Position {
	spots := []media.Position{{Lat: 54.5231, Lon: 8.6482}, {Lat: 54.5231, Lon: 8.6482}, {Lat: 54.4712, Lon: 8.7313}, {Lat: 54.1794, Lon: 7.8871},
		{Lat: 55.0108, Lon: 8.4372}, {Lat: 57.7211, Lon: 10.5832}}
	at := spots[n/3%len(spots)]
	at.Lat += float64(n*37%11-5) / 1500
	at.Lon += float64(n*53%13-6) / 1100
	return at
}

// restored makes n pictures and clips of boats under repair, on the computer.
func (d *Demo) restored(m making, n int) {
	bench := d.bench()
	for i := range n {
		seed := 500 + i
		taken := firstTaken.Add(-time.Duration(i)*53*time.Hour - 400*time.Hour)
		boat, job := boats[i%len(boats)], jobs[i%len(jobs)]
		folder := filepath.Join(bench, boat)
		switch {
		case i%12 == 5 && m.clips:
			m.clip(filepath.Join(folder, fmt.Sprintf("%s-launch-%02d.mp4", job, i)), seed, taken)
		case i%20 == 9:
			m.write(filepath.Join(folder, fmt.Sprintf("lines-plan-%02d.png", i)), taken,
				func() ([]byte, error) { return PNG(seed, 640) })
		default:
			m.write(filepath.Join(folder, fmt.Sprintf("%s-%02d.jpg", job, i)), taken,
				func() ([]byte, error) { return JPEG(seed, 1200, taken) })
		}
	}
}

// strays makes pictures that no folder of the plan takes up: what a program put elsewhere, what somebody sent, a
// cache, and drawings that are nobody's pictures.
func (d *Demo) strays(m making) {
	at := time.Date(2026, 9, 2, 19, 30, 0, 0, cameraZone)
	for i, file := range []string{"Downloads/From Ines/launch-1.jpg", "Downloads/From Ines/launch-2.jpg",
		"Downloads/From Ines/launch-3.jpg", "Scanner/2026-09-02.jpg", "Rigging plans/blocks.jpg", ".cache/small.jpg"} {
		taken := at.Add(-time.Duration(i) * time.Hour)
		m.write(filepath.Join(d.Computer.Root, filepath.FromSlash(file)), taken,
			func() ([]byte, error) { return JPEG(930+i, 900, taken) })
	}
	m.Go(func() error { return Library(filepath.Join(d.Computer.Root, "Old boats.boatcase"), 960, 16, 640) })
	for i := range 4 {
		taken := at.Add(time.Duration(i) * time.Minute)
		m.write(filepath.Join(d.Phone.Root, "Bluetooth", fmt.Sprintf("received-%d.jpg", i)), taken,
			func() ([]byte, error) { return JPEG(940+i, 700, taken) })
	}
}

// card makes what is on the card of the household's camera: some of it was copied to the computer long ago.
func (d *Demo) card(m making) {
	in := filepath.Join(d.Computer.Card.Root, "DCIM", "104DINGH")
	for i := range 18 {
		seed, width := 970+i, 1000
		taken := firstTaken.Add(time.Duration(i) * 7 * time.Minute)
		picture := func() ([]byte, error) { return JPEG(seed, width, taken) }
		m.write(filepath.Join(in, fmt.Sprintf("DNGH%04d.JPG", 411+i)), taken, picture)
		if i < 11 {
			m.write(filepath.Join(d.bench(), "From the camera", fmt.Sprintf("dinghy-%02d.jpg", i)), taken, picture)
		}
	}
}

// untidy makes what a real folder also holds: the same picture twice, two pictures of one name in one month, an empty
// file, notes, and a folder that nobody may read (but root, to whom it is none).
func (d *Demo) untidy(m making) {
	bench := d.bench()
	m.Go(func() error { return os.MkdirAll(filepath.Join(bench, "Locked sea chest"), 0) })
	june := time.Date(2026, 6, 9, 8, 0, 0, 0, cameraZone)
	for i, folder := range []string{"For the club", "Found on the old card"} {
		m.write(filepath.Join(bench, folder, "keel.jpg"), june, func() ([]byte, error) { return JPEG(901+i, 1400, june) })
		m.write(filepath.Join(bench, folder, "stern.jpg"), june, func() ([]byte, error) { return JPEG(905, 1400, june) })
	}
	m.write(filepath.Join(bench, "Found on the old card", "lost.jpg"), june, func() ([]byte, error) { return nil, nil })
	m.write(filepath.Join(bench, "notes.txt"), june,
		func() ([]byte, error) { return []byte("Ask about larch for the Curlew.\n"), nil })
}
