package library

import (
	"context"
	"io"
	"path/filepath"
	"time"

	"golang.org/x/sync/errgroup"

	"yardtide/core/library"
	"yardtide/core/likeness"
	"yardtide/engine/probe"
	"yardtide/engine/source"
)

// File is a file of a library with what reading it needs.
type File struct {
	library.File
	ContentType string
	Fine        string // how it looks, as Text writes it; "" while nobody asked
}

// Options say how a library is read.
type Options struct {
	Root    string // where it lies
	Workers int    // files that are read at the same time
	// Rest is how long to wait before the next file; nil waits for none.
	Rest func() time.Duration
}

// Sort tells a library's originals from smaller versions. Files are looked at where that is needed, and keep how they
// look. What is away is of no look. The error is that of the context.
func Sort(ctx context.Context, o Options, files []File, caches []string) (library.Sorted, error) {
	core := make([]library.File, len(files))
	for i, f := range files {
		core[i] = f.File
	}
	var failed error
	told := library.Sort(core, caches, func(of []int) []likeness.Fine {
		looks := make([]likeness.Fine, len(of))
		if failed != nil {
			return looks
		}
		failed = o.Each(ctx, len(of), func(ctx context.Context, k int) error {
			f := &files[of[k]]
			if f.Fine == "" {
				is, err := o.look(ctx, *f)
				if ctx.Err() != nil {
					return context.Cause(ctx)
				}
				if err != nil {
					return nil // it is away: whatever it may be, it is asked for again
				}
				f.Fine = Text(is)
			}
			looks[k] = Read(f.Fine)
			return nil
		})
		return looks
	})
	return told, failed
}

func (o Options) look(ctx context.Context, f File) (is likeness.Fine, err error) {
	err = o.Open(ctx, f.Path, f.Bytes, func(in probe.File) (err error) {
		is, err = Look(ctx, in, f.Bytes, f.ContentType)
		return err
	})
	return is, err
}

// Open has a file of the library read, of a size.
func (o Options) Open(ctx context.Context, path string, size int64, read func(f probe.File) error) error {
	f, err := source.Open(ctx, filepath.Join(o.Root, filepath.FromSlash(path)))
	if err != nil {
		return err
	}
	defer f.Close()
	return read(io.NewSectionReader(f, 0, size))
}

// Each does something for every number below n, as many at the same time as there are workers.
func (o Options) Each(ctx context.Context, n int, do func(ctx context.Context, i int) error) error {
	g, within := errgroup.WithContext(ctx)
	g.SetLimit(max(1, o.Workers))
	for i := range n {
		if within.Err() != nil {
			break
		}
		g.Go(func() error {
			if o.Rest != nil {
				if rest := o.Rest(); rest > 0 {
					time.Sleep(rest)
				}
			}
			return do(within, i)
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	return context.Cause(ctx)
}
