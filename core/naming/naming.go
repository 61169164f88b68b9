// Package naming turns a layout and an item's facts into the path at which its
// copy lands, in a form that every storage takes, and names clashes so that
// the same content gets the same name on every try.
package naming

import (
	"fmt"
	"path"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"

	"yardtide/core/media"
)

// maxName is how long one name on the path may be, in bytes: what most file
// systems allow (255), less room for the mark of a clash.
const maxName = 255 - len(" (0123456789)")

// Item is what a layout can use.
type Item struct {
	Name    string // the file's own name
	Device  string
	Source  string // the source's folder, as the plan has it
	Folder  string // its own below that, parted by slashes; "" or "." for none
	Kind    media.Kind
	TakenAt time.Time // in the zone of the place where it was taken
	Camera  string    // its model, "" where nobody knows
	Caption string    // "" for none
}

// Path fills a layout (core/plan has checked it). The result is relative, its
// parts parted by slashes, each a safe name.
func Path(layout string, it Item) string {
	name := Safe(it.Name)
	stem, ending := it.Name, path.Ext(it.Name)
	stem = strings.TrimSuffix(stem, ending)
	caption := strings.Join(strings.Fields(it.Caption), " ")
	if caption == "" {
		caption = stem
	}
	camera := strings.Join(strings.Fields(it.Camera), " ")
	if camera == "" {
		camera = NoCamera
	}
	if last := layout[strings.LastIndex(layout, "/")+1:]; !strings.Contains(last, "{name}") {
		layout += "{ending}"
	}
	filled := strings.NewReplacer(
		"{year}", fmt.Sprintf("%04d", it.TakenAt.Year()),
		"{month}", fmt.Sprintf("%02d", it.TakenAt.Month()),
		"{day}", fmt.Sprintf("%02d", it.TakenAt.Day()),
		"{hour}", fmt.Sprintf("%02d", it.TakenAt.Hour()),
		"{minute}", fmt.Sprintf("%02d", it.TakenAt.Minute()),
		"{second}", fmt.Sprintf("%02d", it.TakenAt.Second()),
		"{device}", Safe(it.Device),
		"{source}", Safe(path.Base(path.Clean("/"+it.Source))),
		"{folder}", folders(it.Folder),
		"{kind}", string(it.Kind),
		"{camera}", Safe(camera),
		"{sequence}", sequence(stem),
		"{caption}", Safe(shorten(caption, mostCaption)),
		"{ending}", Safe("x" + ending)[1:],
		"{name}", "\x00",
	).Replace(layout)
	parts := strings.Split(filled, "/")
	for i, part := range parts {
		if strings.Contains(part, "\x00") {
			part = strings.ReplaceAll(part, "\x00", name)
		}
		if part != "" { // of an item that lies in no folder
			parts[i] = Safe(part)
		}
	}
	return path.Join(parts...)
}

// NoCamera is what stands for the camera where nobody knows it.
const NoCamera = "no-camera"

// mostCaption is how much of a caption a name has, in bytes.
const mostCaption = 120

// sequence is the camera's own number of a picture: the last digits of its name, at most
// eight; "0000" where there are none.
func sequence(stem string) string {
	end := strings.LastIndexFunc(stem, isDigit) + 1
	if end == 0 {
		return "0000"
	}
	from := strings.LastIndexFunc(stem[:end], func(r rune) bool { return !isDigit(r) })
	return stem[max(from+1, end-8):end]
}

func isDigit(r rune) bool { return r >= '0' && r <= '9' }

// folders are the names of a folder, each made safe.
func folders(folder string) string {
	var parts []string
	for part := range strings.SplitSeq(folder, "/") {
		if part != "" && part != "." && part != ".." {
			parts = append(parts, Safe(part))
		}
	}
	return strings.Join(parts, "/")
}

// Safe makes one name that every storage takes: valid UTF-8 in NFC, without
// control characters, separators and what Windows shares refuse, not hidden,
// not reserved, at most 255 bytes with room for a clash mark. Safe(Safe(s)) is
// Safe(s).
func Safe(s string) string {
	s = norm.NFC.String(strings.ToValidUTF8(s, "_"))
	s = strings.Map(func(r rune) rune {
		if unicode.IsControl(r) || strings.ContainsRune(`/\:*?"<>|`, r) || r == utf8.RuneError {
			return '_'
		}
		return r
	}, s)
	s = shorten(s, maxName)
	s = strings.TrimRight(s, ". ")
	s = strings.TrimLeft(s, " ")
	if strings.HasPrefix(s, ".") {
		s = "_" + s[1:]
	}
	if s == "" {
		return "_"
	}
	stem, _, _ := strings.Cut(s, ".")
	if reserved[strings.ToUpper(strings.TrimSpace(stem))] {
		s = "_" + s
	}
	return shorten(s, maxName)
}

// reserved are device names that Windows refuses as the stem of a file name.
var reserved = func() map[string]bool {
	m := map[string]bool{"CON": true, "PRN": true, "AUX": true, "NUL": true}
	for _, port := range []string{"COM", "LPT"} {
		for n := '1'; n <= '9'; n++ {
			m[port+string(n)] = true
		}
	}
	return m
}()

// shorten cuts a name to n bytes at a letter's edge and keeps a short ending.
func shorten(s string, n int) string {
	if len(s) <= n {
		return s
	}
	ext := path.Ext(s)
	if len(ext) > 16 {
		ext = ""
	}
	stem := s[:n-len(ext)]
	for !utf8.ValidString(stem) {
		stem = stem[:len(stem)-1]
	}
	return strings.TrimRight(stem, ". ") + ext
}

// Beside is the path of a part of an item whose main file lies at a path: both have one
// name there. main and part are what the files are called where they come from.
func Beside(at, main, part string) string {
	ending := path.Ext(at)
	stem := strings.TrimSuffix(at, ending)
	rest, whole := strings.CutPrefix(part, main) // IMG_1.JPG.xmp
	if !whole {
		if rest, whole = strings.CutPrefix(part, strings.TrimSuffix(main, path.Ext(main))); !whole {
			rest = path.Ext(part)
		}
		return path.Join(path.Dir(stem), Safe(shorten(path.Base(stem), maxName-len(rest))+rest))
	}
	return path.Join(path.Dir(at), Safe(shorten(path.Base(at), maxName-len(rest))+rest))
}

// Clash is the path for content that finds its own path taken by something
// else. It is made from the content's SHA-256 (hex), so it is the same on
// every try and on every device: "IMG_1 (3fa9c2d1).jpg". The second and third
// steps take more of the hash, later ones count.
func Clash(p, sha256 string, step int) string {
	dir, name := path.Split(p)
	ext := path.Ext(name)
	n := min(len(sha256), 8*min(max(1, step), 3))
	stem := strings.TrimSuffix(name, ext)
	mark := " (" + sha256[:n] + ")"
	if step > 3 {
		mark = fmt.Sprintf(" (%s %d)", sha256[:n], step)
	}
	if over := len(stem) + len(mark) + len(ext) - 255; over > 0 {
		stem = shorten(stem, len(stem)-over)
	}
	return dir + stem + mark + ext
}
