package library_test

import (
	"fmt"
	"math/rand/v2"
	"path"
	"testing"

	"github.com/stretchr/testify/assert"

	"yardtide/core/library"
	"yardtide/core/likeness"
	"yardtide/core/media"
)

// shelf makes a library of an invented shape, and knows of each file which picture it shows.
type shelf struct {
	*rand.Rand
	files  []library.File
	scene  []int  // of each file
	own    []bool // a picture of its own: an original, an edit, one that was sent
	looks  []likeness.Fine
	caches []string
}

const base = 1_700_000_000_000 // a moment, in milliseconds

func (s *shelf) add(f library.File, scene int, own bool, look likeness.Fine) {
	f.Kind = kindOf(f.Path)
	s.files, s.scene, s.own, s.looks = append(s.files, f), append(s.scene, scene), append(s.own, own), append(s.looks, look)
}

func (s *shelf) look() (f likeness.Fine) {
	for i := range f {
		f[i] = s.Uint64()
	}
	return f
}

// noisy is a look with some bits another way, as a smaller version has it, or the next shot of a burst.
func (s *shelf) noisy(f likeness.Fine, bits int) likeness.Fine {
	for range bits {
		n := s.IntN(256)
		f[n/64] ^= 1 << (n % 64)
	}
	return f
}

// picture is what one was taken as; the makers put it and its smaller versions where their shape has them.
type picture struct {
	n         int
	at        int64
	w, h      int
	look      likeness.Fine
	lost      bool // only smaller versions are there
	raw, clip bool
	id        string
	name      string
	day       string
	camera    string
}

func (s *shelf) take(n int) (list []picture) {
	at := int64(base)
	var last likeness.Fine
	for i := range n {
		p := picture{n: i, w: 4032, h: 3024, look: s.look(), lost: s.IntN(200) == 0, camera: "Dinghy 9"}
		switch s.IntN(10) {
		case 0: // a burst: in the same second, and nearly the same
			p.look = s.noisy(last, 30)
		case 1:
			p.raw = true
			at += 60_000
		case 2:
			p.clip = true
			at += 60_000
		case 3:
			p.w, p.h = 3024, 4032
			fallthrough
		default:
			at += int64(1000 * (30 + s.IntN(90_000)))
		}
		last, p.at = p.look, at
		p.id = fmt.Sprintf("%08X-%04X-4%03X-A%03X-%012X", s.Uint32(), s.IntN(1<<16), s.IntN(1<<12), s.IntN(1<<12), s.Int64N(1<<48))
		p.name = fmt.Sprintf("IMG_%04d", i%400+1) // cameras begin anew
		p.day = fmt.Sprintf("20%02d/%02d/%02d", 10+i*14/n, 1+i%12, 1+i%28)
		list = append(list, p)
	}
	return list
}

func (s *shelf) original(p picture, at string) {
	f := library.File{Path: at + ".jpg", Bytes: 3_000_000 + s.Int64N(1_000_000), W: p.w, H: p.h, AtMS: p.at, Camera: p.camera}
	switch {
	case p.lost:
		return
	case p.raw:
		f.Path, f.Bytes, f.W, f.H = at+".dng", 20_000_000, 0, 0
	case p.clip:
		f.Path, f.Bytes, f.W, f.H, f.Camera, f.Seconds = at+".mov", 50_000_000, 0, 0, "", 9
	}
	s.add(f, p.n, true, p.look)
}

// version is a smaller version of a picture on a long edge. facts: it has the camera's.
func (s *shelf) version(p picture, at string, edge int, facts bool) {
	f := library.File{Path: at, Bytes: int64(edge*edge) / 8, W: edge, H: edge * 3 / 4}
	if p.h > p.w {
		f.W, f.H = f.H, f.W
	}
	if facts && !p.clip {
		f.AtMS, f.Camera = p.at, p.camera
	}
	s.add(f, p.n, false, s.noisy(p.look, 9))
}

// sent are pictures that people sent: small, without facts, of one measure.
func (s *shelf) sent(n int, at func(i int) string) {
	for i := range n {
		s.add(library.File{Path: at(i), Bytes: 60_000, W: 1024, H: 768}, 1_000_000+i, true, s.look())
	}
}

var shapes = map[string]func(s *shelf, n int){
	"by identifier, in shards": func(s *shelf, n int) {
		for _, p := range s.take(n) {
			s.original(p, "originals/"+p.id[:1]+"/"+p.id)
			s.version(p, "made/views/"+p.id[:1]+"/"+p.id+"_1_105_c.jpeg", 1024, true)
			s.version(p, "made/small/"+p.id[:1]+"/"+p.id+"_t.jpeg", 360, false)
		}
		s.sent(200, func(i int) string { return fmt.Sprintf("originals/%X/%08X%08X.jpg", i%16, s.Uint32(), s.Uint32()) })
	},
	"by day, under the camera's names": func(s *shelf, n int) {
		for _, p := range s.take(n) {
			s.original(p, "Masters/"+p.day+"/"+p.name)
			s.version(p, "Previews/"+p.day+"/"+p.name+".jpg", 2048, true)
			s.version(p, "Thumbnails/"+p.day+"/"+p.name+".jpg", 256, false)
		}
	},
	"versions beside, names by people": func(s *shelf, n int) {
		words := []string{"harbour", "wherry", "launch", "caulking", "spring tide", "keel", "Tomé", "slip"}
		for _, p := range s.take(n) {
			p.raw, p.clip = false, false
			name := fmt.Sprintf("%s %s %d", words[p.n%8], words[p.n/8%8], p.n)
			s.original(p, "albums/"+words[p.n%8]+"/"+name)
			s.version(p, "albums/"+words[p.n%8]+"/"+name+"-1200x900.jpg", 1200, true)
			s.version(p, "albums/"+words[p.n%8]+"/"+name+"-320x240.jpg", 320, false)
			if s.IntN(20) == 0 && !p.lost { // an edit is a picture of its own
				s.add(library.File{Path: "albums/" + words[p.n%8] + "/" + name + "-edit.jpg", Bytes: 900_000, W: p.w / 2, H: p.h / 2,
					AtMS: p.at, Camera: p.camera}, 2_000_000+p.n, true, s.noisy(p.look, 60))
			}
		}
	},
	"a tagged cache, and nameless small ones": func(s *shelf, n int) {
		s.caches = []string{"cache"}
		for _, p := range s.take(n) {
			p.raw, p.clip = false, false
			s.original(p, "store/"+p.day+"/"+p.name)
			s.version(p, fmt.Sprintf("cache/%016x.jpg", s.Uint64()), 512, false)
			s.version(p, fmt.Sprintf("grid/%02x/%016x.jpg", s.IntN(256), s.Uint64()), 300, false)
		}
		s.sent(150, func(i int) string { return fmt.Sprintf("messages/%016x.jpg", s.Uint64()) })
	},
	"a folder for each": func(s *shelf, n int) {
		for _, p := range s.take(n) {
			dir := fmt.Sprintf("items/%02d/item-%s/", p.n%100, p.id)
			s.original(p, dir+"original")
			s.version(p, dir+"w1600.jpg", 1600, false)
			s.version(p, dir+"w320.jpg", 320, false)
		}
		s.sent(100, func(i int) string { return fmt.Sprintf("imported/%d.jpg", i) })
	},
	"by the second, and a folder beside": func(s *shelf, n int) {
		for _, p := range s.take(n) {
			name := fmt.Sprintf("2024%04d_%06d", p.n%9999, p.n)
			s.original(p, "Roll/"+name)
			s.version(p, "Roll/mini/mini_"+name+".png", 480, false)
		}
		s.sent(300, func(i int) string { return fmt.Sprintf("Roll/Received/photo_%d.jpg", i) })
	},
}

func TestOriginalsAreToldFromSmallerVersions(t *testing.T) {
	for name, fill := range shapes {
		for _, n := range []int{60, 900} {
			t.Run(fmt.Sprintf("%s, %d", name, n), func(t *testing.T) {
				s := &shelf{Rand: rand.New(rand.NewPCG(uint64(n), 7))}
				fill(s, n)
				s.Shuffle(len(s.files), func(i, j int) {
					s.files[i], s.files[j], s.scene[i], s.scene[j] = s.files[j], s.files[i], s.scene[j], s.scene[i]
					s.own[i], s.own[j], s.looks[i], s.looks[j] = s.own[j], s.own[i], s.looks[j], s.looks[i]
				})
				asked := 0
				told := library.Sort(s.files, s.caches, func(of []int) []likeness.Fine {
					looks := make([]likeness.Fine, len(of))
					for k, i := range of {
						if asked++; s.files[i].Kind != media.Raw && s.files[i].Kind != media.Video {
							looks[k] = s.looks[i]
						}
					}
					return looks
				})
				there := map[int]bool{} // scenes of which the original is there
				for i := range s.files {
					there[s.scene[i]] = there[s.scene[i]] || s.own[i]
				}
				var versions, found int
				for i, v := range told.Verdicts {
					f := s.files[i]
					if v.Smaller() {
						assert.False(t, s.own[i], "%s is a picture of its own", f.Path)
					}
					if v.Of >= 0 {
						assert.Equal(t, s.scene[i], s.scene[v.Of], "%s is no version of %s", f.Path, s.files[v.Of].Path)
						assert.False(t, told.Verdicts[v.Of].Smaller(), "what %s is a version of is taken", f.Path)
						assert.Greater(t, s.files[v.Of].Bytes, f.Bytes)
					}
					if v.Cache != "" {
						assert.Equal(t, v.Cache, path.Dir(f.Path))
					}
					if !s.own[i] && there[s.scene[i]] {
						versions++
						if v.Smaller() {
							found++
						}
					}
				}
				recall := float64(found) / float64(versions)
				t.Logf("%d files, %d smaller versions, %.3f of them found, %d looks, %d doubts", len(s.files), versions,
					recall, asked, len(told.Doubts))
				assert.Greater(t, recall, 0.9)
			})
		}
	}
}

func kindOf(name string) media.Kind {
	k, _ := media.OfName(name)
	return k
}
