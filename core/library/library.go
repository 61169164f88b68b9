// Package library tells the originals of a closed library from the smaller versions that its program made of them, by
// what is known of its files: where they lie, how large they are, when they were taken, how they look. It opens no
// file, and knows no program by its name.
//
// These always hold:
//   - a picture is called a smaller version only when a larger one of it is there, or when a tag says that it lies in
//     a cache;
//   - what is unclear is taken, and told.
package library

import (
	"cmp"
	"maps"
	"path"
	"slices"
	"strings"

	"yardtide/core/likeness"
	"yardtide/core/media"
)

// File is a picture or clip of a library.
type File struct {
	Path    string // below the library, with slashes
	Kind    media.Kind
	Bytes   int64
	W, H    int    // of its frame in pixels, 0 where that is not known
	AtMS    int64  // when it was taken, as its header has it, in milliseconds since 1970; 0 where it has nothing
	Camera  string // its model
	Seconds int64  // how long a clip lasts
}

// Verdict is what a file is.
type Verdict struct {
	// Of is the number of the larger version of which the file is a smaller one; -1 for a file that is none.
	Of int
	// Cache is the folder whose tag says that the file lies in a cache.
	Cache string
	// Alone tells that the file lies among smaller versions, and that a larger one is not there.
	Alone bool
}

// Smaller tells whether the file is to be left out where only originals are taken.
func (v Verdict) Smaller() bool { return v.Of >= 0 || v.Cache != "" }

// Doubt is about files that lie and are called alike: they may be smaller versions, and are taken.
type Doubt struct {
	Folder string // the folder that holds all of them
	N      int
	Bytes  int64
	Path   string // one of them
}

// Sorted is a library told apart.
type Sorted struct {
	Verdicts []Verdict // of each file
	Doubts   []Doubt   // the most files first
}

const (
	mostPixels  = 0.9  // of a larger version's
	mostSkew    = 0.02 // by which the shapes of two versions differ
	made        = 0.6  // of files that lie alike: if so many are smaller than another, the place is one of smaller versions
	fewCameras  = 0.1  // of files in a place that no camera wrote
	oneEdge     = 0.9  // of files in a place that were made to one measure
	mostEdge    = 0.6  // of the library's full size, of that measure
	leastAlike  = 20   // files of which a place must have more to be judged by looks alone
	samples     = 30   // of which are compared
	alike       = 24   // samples with a larger version: the place is one of smaller versions
	strange     = 6    // no more than so many: it is not
	sameLook    = 40   // bits of 256 in which two versions of one picture differ at most
	closeLook   = 24   // the same, where nothing but the look tells
	mostBeside  = 64   // files of one name or moment that are compared
	fullSize    = 0.9  // the quantile of camera files that is a library's full size
	leastPlaced = 5    // files that make a place
)

// sorter sorts one library.
type sorter struct {
	files  []File
	look   func(of []int) []likeness.Fine
	looks  []likeness.Fine
	seen   []sight
	cache  []string // folders that are tagged
	stems  map[string][]int
	moment map[moment][]int
	edge   int   // the long edge of the library's full size
	pairs  []int // the larger one of each file by name or moment, -1 for none
	sure   []bool
	places map[string][]int // files that lie and are called alike
	out    Sorted
}

type moment struct {
	at     int64
	camera string
}

// Sort tells a library apart. caches are folders in it that a tag calls caches, "." for all of it; look tells how
// pictures look, zero where that cannot be told, and is asked for some of them, once each.
func Sort(files []File, caches []string, look func(of []int) []likeness.Fine) Sorted {
	s := &sorter{files: files, look: look, looks: make([]likeness.Fine, len(files)),
		seen: make([]sight, len(files)), cache: caches,
		stems: map[string][]int{}, moment: map[moment][]int{}, pairs: make([]int, len(files)),
		sure: make([]bool, len(files))}
	s.out.Verdicts = make([]Verdict, len(files))
	for i := range files {
		s.out.Verdicts[i].Of, s.pairs[i] = -1, -1
	}
	s.index()
	s.measure()
	for i := range files {
		s.pairs[i], s.sure[i] = s.larger(i)
	}
	s.places = places(files)
	for _, name := range slices.Sorted(maps.Keys(s.places)) {
		s.judge(s.places[name])
	}
	s.follow()
	slices.SortFunc(s.out.Doubts, func(a, b Doubt) int { return cmp.Or(b.N-a.N, strings.Compare(a.Path, b.Path)) })
	return s.out
}

// judge gives the files of one place their verdicts.
func (s *sorter) judge(place []int) {
	var n, paired, cameras int
	edges := map[int]int{}
	for _, i := range place {
		f := s.files[i]
		if at := s.cached(f.Path); at != "" {
			s.out.Verdicts[i].Cache = at
			continue
		}
		n++
		edges[max(f.W, f.H)]++
		if s.pairs[i] >= 0 {
			paired++
		}
		if f.Camera != "" || f.AtMS != 0 {
			cameras++
		}
	}
	if n == 0 {
		return
	}
	edge, most := 0, 0
	for e, of := range edges {
		if of > most || of == most && e < edge {
			edge, most = e, of
		}
	}
	share := func(some int) float64 { return float64(some) / float64(n) }
	measured := share(most) >= oneEdge && edge > 0 && float64(edge) <= mostEdge*float64(s.edge)
	switch {
	case share(paired) >= made && n >= leastPlaced:
		if s.looksMade(place) {
			s.smaller(place)
		} else {
			s.doubt(place)
		}
	case paired > 0:
		s.each(place)
	}
	if share(paired) < made && measured && share(cameras) <= fewCameras && n > leastAlike {
		s.byLook(place)
	}
}

// looksMade tells whether the pairs of a place look like pairs, as far as a few of them can be seen.
func (s *sorter) looksMade(place []int) bool {
	seen, same := 0, 0
	few := spread(place, samples/2)
	s.need(s.withPairs(few))
	for _, i := range few {
		if s.pairs[i] < 0 {
			continue
		}
		if _, ok := s.apart(i, s.pairs[i]); !ok {
			continue
		}
		if seen++; s.best(i, s.beside(i), sameLook, nil) >= 0 {
			same++
		}
	}
	return 4*same >= 3*seen
}

// smaller gives the files of a place of smaller versions their larger ones. What only a name that may come again pairs
// is compared by its look.
func (s *sorter) smaller(place []int) {
	claims := map[use]int{}
	for _, i := range place {
		if s.pairs[i] >= 0 {
			claims[s.use(i, s.pairs[i])]++
		}
	}
	var unsure []int
	for _, i := range place {
		if of := s.pairs[i]; of >= 0 && (!s.sure[i] || claims[s.use(i, of)] > 1) {
			unsure = append(unsure, i)
		}
	}
	s.need(s.withPairs(unsure))
	used := map[use]bool{}
	for _, i := range place {
		if s.out.Verdicts[i].Cache != "" {
			continue
		}
		switch of := s.pairs[i]; {
		case of >= 0 && s.sure[i] && claims[s.use(i, of)] == 1:
			s.out.Verdicts[i].Of = of
		case of >= 0:
			if best := s.best(i, s.beside(i), sameLook, used); best >= 0 {
				s.out.Verdicts[i].Of, used[s.use(i, best)] = best, true
			} else {
				s.out.Verdicts[i].Alone = true
			}
		default:
			s.out.Verdicts[i].Alone = true
		}
	}
}

// each compares the pairs of a place where originals and smaller versions lie together, one by one.
func (s *sorter) each(place []int) {
	s.need(s.withPairs(slices.DeleteFunc(slices.Clone(place), func(i int) bool { return s.pairs[i] < 0 })))
	used := map[use]bool{}
	for _, i := range place {
		if s.pairs[i] < 0 || s.out.Verdicts[i].Cache != "" {
			continue
		}
		if best := s.best(i, s.beside(i), closeLook, used); best >= 0 {
			s.out.Verdicts[i].Of, used[s.use(i, best)] = best, true
		}
	}
}

// byLook judges a place that has only small pictures whose names and headers tell nothing: by whether they look like
// larger ones that are there.
func (s *sorter) byLook(place []int) {
	larger := s.fullPictures()
	hits := 0
	sample := spread(place, samples)
	s.need(append(slices.Clone(sample), larger...))
	for _, i := range sample {
		if s.best(i, larger, closeLook, nil) >= 0 {
			hits++
		}
	}
	switch {
	case hits*samples >= alike*len(sample):
		s.need(place)
		used := map[use]bool{}
		for _, i := range place {
			if v := &s.out.Verdicts[i]; v.Cache == "" && v.Of < 0 {
				if best := s.best(i, larger, closeLook, used); best >= 0 {
					v.Of, v.Alone, used[s.use(i, best)] = best, false, true
				} else {
					v.Alone = true
				}
			}
		}
	case hits*samples > strange*len(sample):
		s.doubt(place)
	}
}

// fullPictures are those that may be the larger version of a small one.
func (s *sorter) fullPictures() (list []int) {
	for i, f := range s.files {
		if f.W > 0 && s.pairs[i] < 0 && float64(max(f.W, f.H)) > mostEdge*float64(s.edge) {
			list = append(list, i)
		}
	}
	return list
}

// withPairs are some files, and all that may be a larger version of one.
func (s *sorter) withPairs(few []int) []int {
	all := slices.Clone(few)
	for _, i := range few {
		for _, j := range s.beside(i) {
			if s.isLarger(j, i) {
				all = append(all, j)
			}
		}
	}
	return all
}

// use is that a file has a version on a long edge. It has one: of shots in a row that look the same, each has its own.
type use struct{ of, edge int }

func (s *sorter) use(i, of int) use { return use{of, max(s.files[i].W, s.files[i].H)} }

// best is the one of some files that looks most like a smaller one, and is larger; -1 for none. One of another name
// must look closer: the next shot in a row nearly looks the same.
func (s *sorter) best(i int, others []int, most int, used map[use]bool) (best int) {
	best = -1
	for _, j := range others {
		apart, ok := s.apart(i, j)
		if ok && apart <= most && (apart <= closeLook || s.sharesName(i, j)) && !used[s.use(i, j)] && s.isLarger(j, i) {
			best, most = j, apart-1
		}
	}
	return best
}

// apart is in how many bits the looks of two files differ; ok is false where one of them has none.
func (s *sorter) apart(i, j int) (n int, ok bool) {
	if s.seen[i] != known || s.seen[j] != known {
		return 0, false
	}
	return s.looks[i].Apart(s.looks[j]), true
}

// sight is whether it is known how a file looks.
type sight byte

// How it stands with a file's look.
const (
	unasked sight = iota
	known
	unseen
)

// need has some files looked at, those that were not yet.
func (s *sorter) need(files []int) {
	files = slices.DeleteFunc(slices.Clone(files), func(i int) bool { return s.seen[i] != unasked })
	slices.Sort(files)
	files = slices.Compact(files)
	if len(files) == 0 {
		return
	}
	for k, is := range s.look(files) {
		if is == (likeness.Fine{}) { // nor does one plain colour tell anything
			s.seen[files[k]] = unseen
			continue
		}
		s.looks[files[k]], s.seen[files[k]] = is, known
	}
}

// doubt has the files of a place taken, and told.
func (s *sorter) doubt(place []int) {
	d := Doubt{Path: s.files[place[0]].Path, Folder: path.Dir(s.files[place[0]].Path)}
	for _, i := range place {
		if s.out.Verdicts[i].Smaller() {
			continue
		}
		f := s.files[i]
		d.N, d.Bytes = d.N+1, d.Bytes+f.Bytes
		for d.Folder != "." && !strings.HasPrefix(f.Path, d.Folder+"/") {
			d.Folder = path.Dir(d.Folder)
		}
	}
	if d.N > 0 {
		s.out.Doubts = append(s.out.Doubts, d)
	}
}

// follow has each smaller version name the largest one: what it was paired with may be a smaller version itself.
func (s *sorter) follow() {
	for i := range s.out.Verdicts {
		for of := s.out.Verdicts[i].Of; of >= 0 && s.out.Verdicts[of].Of >= 0; of = s.out.Verdicts[i].Of {
			s.out.Verdicts[i].Of = s.out.Verdicts[of].Of
		}
		// A cache may be emptied: what lies there counts for nothing.
		if of := s.out.Verdicts[i].Of; of >= 0 && s.out.Verdicts[of].Cache != "" {
			s.out.Verdicts[i].Of, s.out.Verdicts[i].Alone = -1, true
		}
	}
}

// cached is the tagged folder that a file lies in, "" for none.
func (s *sorter) cached(file string) string {
	for _, c := range s.cache {
		if c == "." || strings.HasPrefix(file, c+"/") {
			return c
		}
	}
	return ""
}

// spread are a few of a list, from all over.
func spread(list []int, n int) []int {
	if len(list) <= n {
		return list
	}
	few := make([]int, n)
	for k := range few {
		few[k] = list[k*len(list)/n]
	}
	return few
}
