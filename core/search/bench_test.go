package search_test

import (
	"fmt"
	"testing"
	"time"

	"yardtide/core/media"
	"yardtide/core/search"
)

// A million items over 19 years: what a question takes, of each sort. Bound: 50 ms.
func BenchmarkFind(b *testing.B) {
	var x search.Index
	began := time.Now()
	for i := range 1_000_000 {
		it := search.Entry{ID: int64(i), Taken: time.UnixMilli(int64(i) * 600_000).UTC(), Kind: []media.Kind{media.Photo, media.Video}[i%2],
			Bytes: 3_000_000, Folder: fmt.Sprintf("DCIM/%d", i/5000), Name: fmt.Sprintf("IMG_%07d.jpg", i), Camera: []string{"", "Gull 7", "Heron"}[i%3],
			At: [][]string{nil, {"shed"}, {"shed", "locker"}}[i%3]}
		if i%4 == 0 {
			it.Position = &media.Position{Lat: float64(i%90) + 0.5, Lon: float64(i % 180)}
		}
		x.Put([]string{"a", "b", "c"}[i%3], it)
	}
	x.Find(search.Query{})
	b.ReportMetric(time.Since(began).Seconds(), "made-s")
	day := time.Date(1980, 5, 1, 0, 0, 0, 0, time.UTC)
	for name, q := range map[string]search.Query{"all": {}, "a part of a name": {Text: "0999"}, "a camera": {Camera: "Heron"},
		"a place and a kind": {At: "locker", Kind: media.Video}, "a month": {From: day, To: day.AddDate(0, 1, 0)},
		"a folder and a word": {Folder: "DCIM/77", Text: "img"}, "a part of the map": {Box: &search.Box{South: 10, West: 10, North: 20, East: 20}}} {
		b.Run(name, func(b *testing.B) {
			for range b.N {
				f := x.Find(q)
				if f.N() == 0 {
					b.Fatal("nothing")
				}
				x.Page(f, f.N()/2, 120)
			}
			b.ReportMetric(float64(b.Elapsed().Microseconds())/1000/float64(b.N), "ms/question")
		})
	}
}
