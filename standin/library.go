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
func Library(dir string, first, n, width int) error {
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
	files := map[string][]byte{
		"keeping/boats.db":   append([]byte("SQLite format 3\x00"), make([]byte, 4080)...),
		"faces/CACHEDIR.TAG": []byte("Signature: 8a477f597d28d172789f06886806bc55\n# Faces are made anew.\n"),
	}
	for i := range n {
		k := first + i
		taken := time.Date(2023, time.Month(1+i%12), 1+i%28, 9, i%60, 0, 0, time.UTC)
		month, name := taken.Format("2006-01"), fmt.Sprintf("BOAT%04d", k)
		whole := newScene(k).draw(width, width*3/4, 0)
		smaller := func(edge int) ([]byte, error) {
			to := image.NewRGBA(image.Rect(0, 0, edge, edge*3/4))
			scaler.BiLinear.Scale(to, to.Bounds(), whole, whole.Bounds(), scaler.Src, nil)
			return encoded(to)
		}
		original, err := encoded(whole)
		view, err2 := smaller(width / 2)
		small, err3 := smaller(width / 4)
		one, err4 := smaller(96)
		if err := errors.Join(err, err2, err3, err4); err != nil {
			return err
		}
		if i < n-1 || n == 1 {
			files["originals/"+month+"/"+name+".jpg"] = withFacts(original, taken, width)
		}
		files["views/"+month+"/"+name+"_view.jpg"] = withFacts(view, taken, width/2)
		files["small/"+month+"/"+name+"_small.jpg"] = small
		files[fmt.Sprintf("faces/%08x.jpg", uint32(k)*2654435761)] = one
	}
	for name, content := range files {
		if err := put(name, content); err != nil {
			return err
		}
	}
	return nil
}
