package standin

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"
)

// App is an app on a phone that uploads its pictures to WebDAV by itself.
type App struct {
	Address        string // of a folder, with a slash at its end
	User, Password string
	// First is the number of its first picture.
	First int
}

// appEvery is how often the app finds a new picture on its phone.
const appEvery = 2 * time.Minute

// Live uploads a few pictures, and one more now and then, until the context ends. What it uploaded in an earlier life it
// uploads again, as apps do; it is there already.
func (a App) Live(ctx context.Context) error {
	tick := time.NewTicker(appEvery)
	defer tick.Stop()
	for n := 0; ; n++ {
		content, err := JPEG(a.First+n, 900, firstTaken.Add(time.Duration(n)*time.Hour))
		if err != nil {
			return err
		}
		if err := a.put(ctx, fmt.Sprintf("slipway-%03d.jpg", n), content); err != nil && ctx.Err() == nil {
			return err
		}
		if n < 4 {
			continue
		}
		select {
		case <-ctx.Done():
			return nil
		case <-tick.C:
		}
	}
}

func (a App) put(ctx context.Context, name string, content []byte) error {
	r, err := http.NewRequestWithContext(ctx, http.MethodPut, a.Address+url.PathEscape(name), bytes.NewReader(content))
	if err != nil {
		return fmt.Errorf("uploading %s: %w", name, err)
	}
	r.SetBasicAuth(a.User, a.Password)
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return fmt.Errorf("uploading %s: %w", name, err)
	}
	if err := answer.Body.Close(); err != nil {
		return fmt.Errorf("uploading %s: %w", name, err)
	}
	if answer.StatusCode >= 300 {
		return fmt.Errorf("uploading %s: %s", name, strings.ToLower(answer.Status))
	}
	return nil
}
