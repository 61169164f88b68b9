package api

import (
	"archive/zip"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"path"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yardtide/core/search"
	"yardtide/engine/bringback"
	"yardtide/service"
	"yardtide/wire/bringwire"
)

// This file gives items whole: one, or many as a zip, which is streamed.

// shownAs are the endings of what a browser shows by itself, and that can run nothing.
var shownAs = map[string]string{".jpg": "image/jpeg", ".jpeg": "image/jpeg", ".png": "image/png", ".gif": "image/gif", ".webp": "image/webp",
	".mp4": "video/mp4", ".m4v": "video/mp4", ".mov": "video/mp4", ".webm": "video/webm"}

// zips are the orders for a zip: a browser fetches one by a plain address. The zero value is ready.
type zips struct {
	mu  sync.Mutex
	all map[string]zipOrder
}

type zipOrder struct {
	refs []search.Ref
	at   time.Time
	cost bool
}

const (
	zipLife  = 10 * time.Minute
	mostZips = 20
	// mostZipped is how many items a zip has.
	mostZipped = 200_000
)

func (z *zips) put(o zipOrder) string {
	z.mu.Lock()
	defer z.mu.Unlock()
	if z.all == nil {
		z.all = map[string]zipOrder{}
	}
	for id, one := range z.all {
		if o.at.Sub(one.at) > zipLife || len(z.all) >= mostZips {
			delete(z.all, id)
		}
	}
	b := make([]byte, 16)
	_, _ = rand.Read(b) // it never fails (crypto/rand)
	id := hex.EncodeToString(b)
	z.all[id] = o
	return id
}

func (z *zips) get(id string) (zipOrder, bool) {
	z.mu.Lock()
	defer z.mu.Unlock()
	o, is := z.all[id]
	return o, is && time.Since(o.at) <= zipLife
}

func (s *Server) wholeRoutes() {
	call(s, "original", http.MethodGet, "/items/{device}/{key}/original",
		"An item as shot, from its device or from a place; a smaller copy where there is no other", s.original)
	call(s, "order-zip", http.MethodPost, "/library/zip", "Make ready a zip of items, to be fetched once by its number",
		func(ctx context.Context, in *request[bringwire.BringAsked]) (*answer[bringwire.ZipOrdered], error) {
			refs, err := s.asked(ctx, in.Body)
			if err != nil {
				return nil, err
			}
			if len(refs) == 0 || len(refs) > mostZipped {
				return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("A zip has from 1 to %d items, and not %d.", mostZipped, len(refs)))
			}
			return &answer[bringwire.ZipOrdered]{bringwire.ZipOrdered{ID: s.zips.put(zipOrder{refs, time.Now(), in.Body.Metered}), N: len(refs)}}, nil
		})
	call(s, "zip", http.MethodGet, "/library/zip/{id}", "The zip that was ordered, as it is made", s.zip)
}

func (s *Server) original(ctx context.Context, in *struct {
	Device  string `path:"device"`
	Key     string `path:"key"`
	Show    bool   `query:"show" doc:"To be shown, and not kept, where a browser can"`
	Metered bool   `query:"metered" doc:"Also over a network that may cost"`
}) (*huma.StreamResponse, error) {
	d, err := s.device(in.Device)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithCancel(context.WithoutCancel(ctx)) // it outlives the handler
	w, err := s.service.Whole(ctx, d, in.Key, in.Metered)
	if err != nil {
		cancel()
		return nil, wholeProblem(err)
	}
	return &huma.StreamResponse{Body: func(hctx huma.Context) {
		as, shows := shownAs[strings.ToLower(path.Ext(w.Name))]
		hctx.SetHeader("Content-Type", "application/octet-stream")
		hctx.SetHeader("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": w.Name}))
		if in.Show && shows {
			hctx.SetHeader("Content-Type", as)
			hctx.SetHeader("Content-Disposition", "inline")
		}
		hctx.SetHeader("Content-Security-Policy", "default-src 'none'; sandbox")
		hctx.SetHeader("Cache-Control", "private, max-age=3600")
		hctx.SetStatus(http.StatusOK)
		told := func(err error) {
			s.log.Warn("an item was cut as it was given", "device", d.DeviceName(), "item", in.Key, "err", err)
		}
		hctx.(*exchange).send(&given{w, cancel, told}, w.Bytes) //nolint:forcetypeassert // the only one there is
	}}, nil
}

// given is an item that is being given.
type given struct {
	service.Whole
	end  func()
	told func(error)
}

func (g *given) Read(p []byte) (int, error) {
	n, err := g.Whole.Read(p)
	if err != nil && !errors.Is(err, io.EOF) {
		g.told(err)
	}
	return n, err
}

func (g *given) Close() error {
	defer g.end()
	return g.Whole.Close()
}

func wholeProblem(err error) error {
	switch {
	case errors.Is(err, service.ErrCosts):
		return huma.Error409Conflict("It would come over a network that may cost: ask again with metered.")
	case errors.Is(err, bringback.ErrNoCopy):
		return huma.Error409Conflict("It can be read nowhere now. " + sentence(err))
	}
	return err
}

// zip streams a zip. What cannot be read is left out, and told in a file at its end.
func (s *Server) zip(ctx context.Context, in *struct {
	ID string `path:"id" maxLength:"40"`
}) (*huma.StreamResponse, error) {
	o, is := s.zips.get(in.ID)
	if !is {
		return nil, huma.Error404NotFound("There is no such zip any more; order it anew.")
	}
	return &huma.StreamResponse{Body: func(hctx huma.Context) {
		hctx.SetHeader("Content-Type", "application/zip")
		hctx.SetHeader("Content-Disposition", `attachment; filename="from the yard.zip"`)
		hctx.SetStatus(http.StatusOK)
		ctx, cancel := context.WithCancel(context.WithoutCancel(ctx))
		hctx.(*exchange).stream(func(to io.Writer) error { //nolint:forcetypeassert // the only one there is
			defer cancel()
			return s.writeZip(ctx, to, o)
		})
	}}, nil
}

func (s *Server) writeZip(ctx context.Context, to io.Writer, o zipOrder) error {
	z := zip.NewWriter(to)
	var left []string
	names := map[string]int{}
	for _, ref := range o.refs {
		d, here := s.service.Device(ref.Device)
		if !here {
			left = append(left, ref.Device+" is not known any more.")
			continue
		}
		items, err := d.Finds.ItemsOf(ctx, []int64{ref.ID})
		if err != nil || len(items) == 0 {
			left = append(left, fmt.Sprintf("An item of %s is not known any more.", ref.Device))
			continue
		}
		w, err := s.service.Whole(ctx, d, items[0].Key, o.cost)
		if err != nil {
			left = append(left, fmt.Sprintf("%s of %s: %s", items[0].Path, ref.Device, sentence(err)))
			continue
		}
		// What unpacks it may take either stroke for a step.
		name := path.Join(ref.Device, strings.ReplaceAll(path.Clean("/" + w.Path)[1:], `\`, "_"))
		if w.Reduced {
			name = path.Join(path.Dir(name), w.Name)
		}
		names[name]++ // an older version may have the path, too
		name = bringback.Beside(name, names[name])
		// Pictures do not get smaller: they are stored as they are.
		into, err := z.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Store, Modified: w.Modified})
		if err == nil {
			_, err = io.Copy(into, w)
		}
		if err = errors.Join(err, w.Close()); err != nil { // half of it may have gone: the zip ends here
			s.log.Warn("a zip was cut", "device", ref.Device, "item", items[0].Key, "err", err)
			return err
		}
	}
	if len(left) > 0 {
		into, err := z.Create("what is missing.txt")
		if err != nil {
			return err
		}
		if _, err := io.WriteString(into, strings.Join(left, "\n")+"\n"); err != nil {
			return err
		}
	}
	return z.Close()
}
