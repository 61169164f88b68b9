package library

import (
	"path"
	"slices"
	"strings"

	"yardtide/core/media"
)

// This file finds the larger version of a file by its name, or by the moment at which it was taken.

// index makes files be found by their names and moments.
func (s *sorter) index() {
	for i, f := range s.files {
		for _, stem := range stemsOf(f.Path) {
			s.stems[stem] = append(s.stems[stem], i)
		}
		if f.AtMS != 0 {
			m := moment{f.AtMS, f.Camera}
			s.moment[m] = append(s.moment[m], i)
		}
	}
}

// names are a file's name without its ending, and that of its folder, in lower case.
func names(file string) (stem, above string) {
	base := path.Base(file)
	return strings.ToLower(strings.TrimSuffix(base, path.Ext(base))), strings.ToLower(path.Base(path.Dir(file)))
}

// mostCut is how many words are cut off a name, at its end, to find the one that it was made of.
const mostCut = 3

// stemsOf are the names that a file and its other versions may share.
func stemsOf(file string) []string {
	stem, above := names(file)
	list := []string{stem}
	cut := stem
	for range mostCut {
		at := strings.LastIndexAny(cut, "_-@. (")
		if at <= 0 {
			break
		}
		cut = strings.TrimRight(cut[:at], "_-@. (")
		list = append(list, cut)
	}
	if at := strings.IndexAny(stem, "_-@. "); at > 0 && at+1 < len(stem) {
		list = append(list, stem[at+1:])
	}
	if isID(above) {
		list = append(list, above)
	}
	return slices.DeleteFunc(list, func(one string) bool { return len(one) < 4 || one != stem && digits(one) < 3 && len(one) < 8 })
}

// beside are the files that may be a larger version of one: by its name and moment.
func (s *sorter) beside(i int) (list []int) {
	add := func(group []int) {
		for _, j := range group[:min(len(group), mostBeside)] {
			if j != i && !slices.Contains(list, j) {
				list = append(list, j)
			}
		}
	}
	f := s.files[i]
	if f.AtMS != 0 {
		add(s.moment[moment{f.AtMS, f.Camera}])
		if f.Camera != "" {
			add(s.moment[moment{f.AtMS, ""}])
		}
	}
	for _, stem := range stemsOf(f.Path) {
		add(s.stems[stem])
	}
	return list
}

// larger is the largest version of a file by name or moment, -1 for none. sure tells that no other picture can be
// meant: the name is one that does not come again, or name and moment, or name and folder are the same.
func (s *sorter) larger(i int) (of int, sure bool) {
	of = -1
	if s.files[i].Kind == media.Video {
		return s.longerClip(i)
	}
	if !pictures(s.files[i].Kind) {
		return -1, false
	}
	if f := s.files[i]; float64(max(f.W, f.H)) <= mostEdge*float64(s.edge) { // a full size beside its raw file is none
		if j := s.otherKind(i); j >= 0 {
			return j, true
		}
	}
	several, certain := false, false
	for _, j := range s.beside(i) {
		if !s.isLarger(j, i) {
			continue
		}
		switch is := s.certain(i, j); {
		case certain && !is:
			continue
		case is && !certain: // what was found by less counts no more
			of, several, certain = -1, false, true
		}
		if of >= 0 && !s.isLarger(of, j) && !s.isLarger(j, of) {
			several = true
		}
		if of < 0 || s.isLarger(j, of) {
			of = j
		}
	}
	return of, certain && !several
}

// longerClip is the clip of which another is a smaller version: as long, by a name or moment that leaves no doubt, and
// of more than twice the bytes. Clips are compared by nothing else.
func (s *sorter) longerClip(i int) (of int, sure bool) {
	small := s.files[i]
	of = -1
	for _, j := range s.beside(i) {
		if big := s.files[j]; big.Kind == media.Video && big.Seconds > 0 && big.Seconds == small.Seconds &&
			big.Bytes > 2*small.Bytes && s.certain(i, j) && (of < 0 || big.Bytes > s.files[of].Bytes) {
			of = j
		}
	}
	return of, of >= 0
}

// certain tells whether the name and the moment of two files leave no doubt.
func (s *sorter) certain(i, j int) bool {
	a, b := s.files[i], s.files[j]
	sameMoment := a.AtMS != 0 && a.AtMS == b.AtMS && a.Camera == b.Camera
	if sameMoment && a.AtMS%1000 != 0 && a.Camera != "" {
		return true // to a thousandth of a second
	}
	stem, above := names(b.Path)
	for _, one := range stemsOf(a.Path) {
		switch {
		case one != stem && one != above:
		case sameMoment, isID(one), one == stem && sameFolder(a.Path, b.Path):
			return true
		}
	}
	return false
}

// sameFolder tells whether two files lie in one folder, or in folders that are called alike below two others, by
// something that counts: Masters/2017/10/06 and Previews/2017/10/06.
func sameFolder(a, b string) bool {
	a, b = path.Dir(a), path.Dir(b)
	if a == b {
		return true
	}
	alike := ""
	for path.Base(a) == path.Base(b) && a != "." && b != "." {
		alike += path.Base(a)
		a, b = path.Dir(a), path.Dir(b)
	}
	return digits(alike) >= 4
}

// sharesName tells whether two files may be versions of one picture by their names.
func (s *sorter) sharesName(i, j int) bool {
	own := stemsOf(s.files[i].Path)
	return slices.ContainsFunc(stemsOf(s.files[j].Path), func(one string) bool { return slices.Contains(own, one) })
}

// isLarger tells whether one file may be the larger version of another.
func (s *sorter) isLarger(j, i int) bool {
	big, small := s.files[j], s.files[i]
	if big.Bytes <= small.Bytes || big.AtMS != 0 && small.AtMS != 0 && abs(big.AtMS-small.AtMS) > 2000 ||
		big.Camera != "" && small.Camera != "" && big.Camera != small.Camera {
		return false
	}
	if big.Kind == media.Video || small.Kind == media.Video {
		return false
	}
	if big.W == 0 || small.W == 0 || float64(small.W*small.H) >= mostPixels*float64(big.W*big.H) {
		return false
	}
	return sameShape(big.W, big.H, small.W, small.H) || sameShape(big.H, big.W, small.W, small.H)
}

// sameShape tells whether two frames have one shape, but for a pixel that was rounded away.
func sameShape(w, h, w2, h2 int) bool {
	a, b := float64(w)*float64(h2), float64(h)*float64(w2)
	return max(a-b, b-a) <= mostSkew*max(a, b)+float64(max(w, h))
}

// otherKind is the raw file or clip that a small picture was made of, by a name that does not come again; -1 for none.
func (s *sorter) otherKind(i int) int {
	for _, j := range s.beside(i) {
		big, small := s.files[j], s.files[i]
		if (big.Kind == media.Raw || big.Kind == media.Video) && pictures(small.Kind) && big.Bytes > small.Bytes &&
			s.certain(i, j) {
			return j
		}
	}
	return -1
}

// measure finds the long edge of the library's full size.
func (s *sorter) measure() {
	var edges []int
	for _, f := range s.files {
		if f.W > 0 && (f.AtMS != 0 || f.Camera != "") {
			edges = append(edges, max(f.W, f.H))
		}
	}
	if len(edges) == 0 {
		return
	}
	slices.Sort(edges)
	s.edge = edges[int(fullSize*float64(len(edges)-1))]
}

// pictures are the kinds of which smaller versions are told: raw files are what a camera saw, and never are.
func pictures(k media.Kind) bool { return k == media.Photo || k == media.Graphic }

func abs(n int64) int64 { return max(n, -n) }
