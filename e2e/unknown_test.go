package e2e

import (
	"bufio"
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/e2e/browser"
)

// unknown is a word that no page knows.
const unknown = "driftwood"

// enumerated are the names of all properties of the API whose values are words of a list.
func enumerated(t *testing.T) map[string]bool {
	t.Helper()
	text, err := os.ReadFile("../docs/openapi.json")
	require.NoError(t, err)
	var document any
	require.NoError(t, json.Unmarshal(text, &document))
	names := map[string]bool{}
	var walk func(name string, v any)
	walk = func(name string, v any) {
		switch v := v.(type) {
		case map[string]any:
			if _, listed := v["enum"]; listed && v["type"] == "string" {
				names[name] = true
			}
			for k, of := range v {
				if k == "items" {
					walk(name, of)
				} else {
					walk(k, of)
				}
			}
		case []any:
			for _, of := range v {
				walk(name, of)
			}
		}
	}
	walk("", document)
	return names
}

// withUnknown is an answer in which every word of a list is one that nobody knows.
func withUnknown(text []byte, names map[string]bool) []byte {
	var v any
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	if d.Decode(&v) != nil {
		return text
	}
	var change func(name string, v any) any
	change = func(name string, v any) any {
		switch v := v.(type) {
		case map[string]any:
			for k, of := range v {
				v[k] = change(k, of)
			}
		case []any:
			for i, of := range v {
				v[i] = change(name, of)
			}
		case string:
			if names[name] {
				return unknown
			}
		}
		return v
	}
	out, err := json.Marshal(change("", v))
	if err != nil {
		return text
	}
	return out
}

// TestNoWordFromOutsideBreaksAPage opens every page while the service says words that the
// console does not know, wherever the API has lists of words.
func TestNoWordFromOutsideBreaksAPage(t *testing.T) {
	s := demo(t, t.TempDir())
	names := enumerated(t)
	require.True(t, names["network"] && names["state"] && names["charging"] && names["gate"], "%v", names)
	to, err := url.Parse(s.url)
	require.NoError(t, err)
	proxy := &httputil.ReverseProxy{
		FlushInterval: -1,
		Rewrite: func(r *httputil.ProxyRequest) {
			r.SetURL(to)
			r.Out.Host = to.Host
			r.Out.Header.Set("Accept-Encoding", "identity")
		},
		ModifyResponse: func(r *http.Response) error {
			switch kind := r.Header.Get("Content-Type"); {
			case strings.HasPrefix(kind, "application/json"):
				text, err := io.ReadAll(r.Body)
				if err != nil {
					return err
				}
				text = withUnknown(text, names)
				r.Header.Set("Content-Length", strconv.Itoa(len(text)))
				r.ContentLength, r.Body = int64(len(text)), io.NopCloser(bytes.NewReader(text))
			case strings.HasPrefix(kind, "text/event-stream"):
				r.Body = told{bufio.NewReaderSize(r.Body, 4<<20), r.Body, names, &bytes.Buffer{}}
			}
			return nil
		},
	}
	front := httptest.NewServer(proxy)
	t.Cleanup(front.Close)
	b, err := browser.Start(t.Context())
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, b.Close()) })
	k := keeper{t, b, s}
	require.NoError(t, b.Open(s.link)) // signed in, for every port of this address
	k.sees("Saltmarsh Slip")
	require.NoError(t, b.Open(front.URL))
	k.sees(unknown)
	item := strings.TrimSpace(strings.Split(s.ok("queue", "-json"), `"key": "`)[1])
	item = item[:strings.IndexByte(item, '"')]
	for page, says := range map[string]string{"/": "Devices", "/queue": "Queue", "/queue?item=galley-phone/" +
		item: "Queue", "/devices": "Add a device", "/destinations": "Destinations", "/plan": "What it says"} {
		require.NoError(t, b.Open(front.URL+page))
		k.sees(says)
		text := k.text()
		for _, broken := range []string{"Something went wrong", "cannot be shown", "undefined", "[object Object]",
			"Invalid Date", "NaN"} {
			assert.NotContains(t, text, broken, page)
		}
	}
	for _, complaint := range b.Complaints() {
		assert.NotContains(t, complaint, "Exception", complaint)
		assert.NotContains(t, complaint, "TypeError", complaint)
	}
}

// told is an event stream whose data has unknown words.
type told struct {
	lines *bufio.Reader
	io.Closer
	names map[string]bool
	ready *bytes.Buffer
}

func (s told) Read(p []byte) (int, error) {
	if s.ready.Len() == 0 {
		line, err := s.lines.ReadBytes('\n')
		if data, is := bytes.CutPrefix(line, []byte("data: ")); is {
			line = append(append([]byte("data: "), withUnknown(bytes.TrimSpace(data), s.names)...), '\n')
		}
		s.ready.Write(line)
		if err != nil && s.ready.Len() == 0 {
			return 0, err
		}
	}
	return s.ready.Read(p)
}
