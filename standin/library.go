package standin

import (
	"errors"
	"fmt"
	"image"
	"os"
	"path/filepath"
	"time"

	scaler "golang.org/x/image/draw"
)

// Library makes a closed library of an invented program, unless it is there: n originals of a width by month, a view
// of each at half of it, a small one without facts, faces in a tagged cache, and a database. Of the last picture only
// the view and the small one are there. Pictures are numbered from first on.
func Library(dir string, first, n, width int) error { return LargeLibrary(dir, first, n, n, width) }

// LargeLibrary is such a library of which the pictures show no more than so many scenes.
func LargeLibrary(dir string, first, n, scenes, width int) error {
	if _, err := os.Stat(dir); err == nil {
		return nil
	}
	put := func(name string, content []byte) error {
		file := filepath.Join(dir, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			return fmt.Errorf("making a library: %w", err)
		}
		if err := os.WriteFile(file, content, 0o644); err != nil {
			return fmt.Errorf("making a library: %w", err)
		}
		return os.Chtimes(file, time.Time{}, time.Now().Add(-time.Hour)) // it rests
	}
	for name, content := range map[string][]byte{
		"keeping/boats.db":   append([]byte("SQLite format 3\x00"), make([]byte, 4080)...),
		"faces/CACHEDIR.TAG": []byte("Signature: 8a477f597d28d172789f06886806bc55\n# Faces are made anew.\n"),
	} {
		if err := put(name, content); err != nil {
			return err
		}
	}
	for k := range scenes {
		whole := newScene(first+k).draw(width, width*3/4, 0)
		sizes := [4][]byte{}
		for s, edge := range []int{width, width / 2, width / 4, 96} {
			to := image.NewRGBA(image.Rect(0, 0, edge, edge*3/4))
			scaler.BiLinear.Scale(to, to.Bounds(), whole, whole.Bounds(), scaler.Src, nil)
			var err error
			if sizes[s], err = encoded(to); err != nil {
				return err
			}
		}
		for i := k; i < n; i += scenes {
			at := time.Date(2023, time.Month(1+i%12), 1+i%28, i%24, i%60, i%59, 0, time.UTC)
			month, name := at.Format("2006-01"), fmt.Sprintf("BOAT%04d", (first+i)%10_000)
			if i >= 10_000 { // cameras begin anew
				month = fmt.Sprintf("%d-%02d", 2023+i/10_000, at.Month())
			}
			var err error
			if i < n-1 || n == 1 {
				err = put("originals/"+month+"/"+name+".jpg", withFacts(sizes[0], at, width))
			}
			if err := errors.Join(err, put("views/"+month+"/"+name+"_view.jpg", withFacts(sizes[1], at, width/2)),
				put("small/"+month+"/"+name+"_small.jpg", sizes[2]),
				put(fmt.Sprintf("faces/%08x.jpg", uint32(first+i)*2654435761), sizes[3])); err != nil {
				return err
			}
		}
	}
	return nil
}
