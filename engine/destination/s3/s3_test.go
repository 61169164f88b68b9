package s3_test

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/iotest"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/queue"
	"yardtide/engine/destination"
	"yardtide/engine/destination/destinationtest"
	"yardtide/engine/destination/s3"
	"yardtide/engine/destination/web"
	"yardtide/standin/gateway"
)

func start(t *testing.T) *gateway.Server {
	t.Helper()
	g := &gateway.Server{Root: t.TempDir()}
	require.NoError(t, g.Start(t.Context(), "locker"))
	t.Cleanup(func() { assert.NoError(t, g.Close()) })
	return g
}

func driver(t *testing.T, o s3.Options, password string) *s3.Driver {
	t.Helper()
	o.Password = func() (string, error) { return password, nil }
	o.Web = web.Options{Stall: 2 * time.Second}
	d, err := s3.New(o)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, d.Close()) })
	return d
}

func send(t *testing.T, d *s3.Driver, temp string, n int) error {
	t.Helper()
	return d.Put(t.Context(), temp, bytes.NewReader(bytes.Repeat([]byte("tide"), n/4)), 0, int64(n))
}

func TestFailuresAreToldApart(t *testing.T) {
	g := start(t)
	right := s3.Options{URL: g.Endpoint, Bucket: "locker", User: g.User}
	for name, c := range map[string]struct {
		change   func(*s3.Options)
		password string
		cause    queue.Cause
		says     string
	}{
		"a wrong secret": {func(*s3.Options) {}, "wrong", queue.SignIn, "refuses the access key or the secret key"},
		"a wrong user": {func(o *s3.Options) { o.User = "nobody" }, g.Password, queue.SignIn,
			"refuses the access key or the secret key"},
		"no bucket": {func(o *s3.Options) { o.Bucket = "nothing" }, g.Password, queue.Misplaced,
			"has no bucket nothing"},
		"nobody there": {func(o *s3.Options) { o.URL = "http://127.0.0.1:1" }, g.Password, queue.Unreachable,
			"does not answer"},
	} {
		t.Run(name, func(t *testing.T) {
			o := right
			c.change(&o)
			err := send(t, driver(t, o, c.password), destinationtest.Temp(1), 400)
			var own *destination.Error
			require.ErrorAs(t, err, &own)
			assert.Equal(t, c.cause, own.Cause, own.Says)
			assert.Contains(t, own.Says, c.says)
			assert.NotContains(t, err.Error(), g.Password)
		})
	}
	_, err := s3.New(s3.Options{URL: "nowhere"})
	assert.Equal(t, queue.Misplaced, destination.CauseOf(err))
}

func TestWhatWasBegunAndLeftIsEnded(t *testing.T) {
	g := start(t)
	d := driver(t, s3.Options{URL: g.Endpoint, Bucket: "locker", User: g.User, Stale: time.Nanosecond}, g.Password)
	core, err := minio.NewCore(g.Address, &minio.Options{Creds: credentials.NewStaticV4(g.User, g.Password, ""),
		Region: "us-east-1"})
	require.NoError(t, err)
	begun := func() int {
		list, err := core.ListMultipartUploads(t.Context(), "locker", "", "", "", "", 100)
		require.NoError(t, err)
		return len(list.Uploads)
	}
	temp := destinationtest.Temp(1)
	for _, key := range []string{temp, temp, "2026/a.jpg"} { // as a process that was killed leaves it
		_, err := core.NewMultipartUpload(t.Context(), "locker", key, minio.PutObjectOptions{})
		require.NoError(t, err)
	}
	require.Equal(t, 3, begun())
	entries, err := d.List(t.Context(), destination.TempDir)
	require.NoError(t, err)
	assert.Len(t, entries, 2, "it is found by looking")
	require.NoError(t, send(t, d, temp, 20<<20))
	require.NoError(t, d.Publish(t.Context(), temp, "2026/a.jpg"))
	assert.Zero(t, begun())
}

func TestAnObjectThatIsNotWholeIsRefused(t *testing.T) {
	g := start(t)
	d := driver(t, s3.Options{URL: g.Endpoint, Bucket: "locker", User: g.User}, g.Password)
	temp := destinationtest.Temp(1)
	require.NoError(t, send(t, d, temp, 400_000))
	require.NoError(t, d.Publish(t.Context(), temp, "a.jpg"))
	require.NoError(t, os.Truncate(g.Files("locker")+"/a.jpg", 399_999))
	_, err := d.Prove(t.Context(), "a.jpg", strings.Repeat("0", 64), 400_000)
	assert.Equal(t, queue.Different, destination.CauseOf(err), "%v", err)
	// Other bytes under the temporary name: the copy's hash is computed from
	// them, and is not that of what was sent.
	require.NoError(t, send(t, d, temp, 400_000))
	content := bytes.Repeat([]byte("tide"), 100_000)
	content[7] ^= 1
	require.NoError(t, os.WriteFile(g.Files("locker")+"/"+temp, content, 0o644))
	require.NoError(t, d.Publish(t.Context(), temp, "b.jpg"))
	sum := sha256.Sum256(bytes.Repeat([]byte("tide"), 100_000))
	_, err = d.Prove(t.Context(), "b.jpg", hex.EncodeToString(sum[:]), 400_000)
	assert.Equal(t, queue.Different, destination.CauseOf(err), "%v", err)
}

// A send is cut around every edge of its parts, and with all of them there but
// the word that joins them lost: the next goes on from what is there.
func TestASendThatWasCutGoesOnFromEveryPart(t *testing.T) {
	const part = 5 << 20
	g := start(t)
	d := driver(t, s3.Options{URL: g.Endpoint, Bucket: "locker", User: g.User}, g.Password)
	core, err := minio.NewCore(g.Address, &minio.Options{Creds: credentials.NewStaticV4(g.User, g.Password, ""),
		Region: "us-east-1"})
	require.NoError(t, err)
	for _, size := range []int64{2 * part, 2*part + 1, 3*part - 1} {
		content := make([]byte, size)
		for i := range content {
			content[i] = byte(i >> 10)
		}
		for i, cut := range []int64{part - 1, part, part + 1, 2*part - 1, 2 * part, 2*part + 1, size - 1, size} {
			temp, lost := destinationtest.Temp(size*100+int64(i)), errors.New("the line went")
			if cut < size {
				err := d.Put(t.Context(), temp, io.MultiReader(bytes.NewReader(content[:cut]), iotest.ErrReader(lost)), 0, size)
				require.ErrorIs(t, err, lost)
			} else { // everything arrived but the last request
				id, err := core.NewMultipartUpload(t.Context(), "locker", temp, minio.PutObjectOptions{})
				require.NoError(t, err)
				for n := int64(0); n*part < size; n++ {
					piece := content[n*part : min(size, (n+1)*part)]
					_, err := core.PutObjectPart(t.Context(), "locker", temp, id, int(n)+1, bytes.NewReader(piece), int64(len(piece)),
						minio.PutObjectPartOptions{})
					require.NoError(t, err)
				}
			}
			kept, err := d.Kept(t.Context(), temp, bytes.NewReader(content), size)
			require.NoError(t, err)
			require.NoError(t, d.Put(t.Context(), temp, bytes.NewReader(content[kept:]), kept, size),
				"%d of %d bytes, cut at %d", kept, size, cut)
			there, err := os.ReadFile(g.Files("locker") + "/" + temp)
			require.NoError(t, err)
			require.True(t, bytes.Equal(content, there), "%d bytes, cut at %d", size, cut)
			require.NoError(t, d.Remove(t.Context(), temp))
		}
	}
}

// TestWhatSomebodyElseWritesInThatMomentStays has another program write an object between the
// look at it and its removal, at a storage that heeds tags and at one that does not.
func TestWhatSomebodyElseWritesInThatMomentStays(t *testing.T) {
	for _, heeds := range []bool{true, false} {
		t.Run(fmt.Sprintf("heeds tags %v", heeds), func(t *testing.T) {
			g := start(t)
			base, err := url.Parse(g.Endpoint)
			require.NoError(t, err)
			theirs, err := minio.New(base.Host, &minio.Options{Creds: credentials.NewStaticV4(g.User, g.Password, "")})
			require.NoError(t, err)
			put := func(text string) {
				_, err := theirs.PutObject(t.Context(), "locker", "small/a.jpg", strings.NewReader(text), int64(len(text)),
					minio.PutObjectOptions{})
				require.NoError(t, err)
			}
			var busy atomic.Bool
			to := httputil.NewSingleHostReverseProxy(base)
			between := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if r.Method == http.MethodDelete {
					if !heeds {
						r.Header.Del("If-Match")
					}
					if strings.HasSuffix(r.URL.Path, "/small/a.jpg") && busy.Load() {
						put("somebody's")
					}
				}
				to.ServeHTTP(w, r)
			}))
			t.Cleanup(between.Close)
			d := driver(t, s3.Options{URL: between.URL, Bucket: "locker", User: g.User}, g.Password)
			content := func(path string) string {
				r, err := d.Open(t.Context(), path)
				if errors.Is(err, destination.ErrNotFound) {
					return "nothing"
				}
				require.NoError(t, err)
				defer r.Close()
				text, err := io.ReadAll(r)
				require.NoError(t, err)
				return string(text)
			}
			put("ours")
			out := destination.NewWithdrawn("phone")
			busy.Store(true)
			err = d.Withdraw(t.Context(), "small/a.jpg", out)
			require.Error(t, err)
			assert.Equal(t, "nothing", content(out), "nothing is left of the try")
			if heeds {
				assert.Equal(t, queue.Busy, destination.CauseOf(err), "%v", err)
				assert.Equal(t, "somebody's", content("small/a.jpg"))
				busy.Store(false)
				require.NoError(t, d.Withdraw(t.Context(), "small/a.jpg", out))
				assert.Equal(t, "nothing", content("small/a.jpg"))
				assert.Equal(t, "somebody's", content(out))
				return
			}
			assert.ErrorIs(t, err, destination.ErrUnable)
			assert.Equal(t, "ours", content("small/a.jpg"), "it was not even asked for")
		})
	}
}

// TestStorageThatHeedsNoNamesIsAskedOnce has storage that writes over what has a name, or that knows no such
// condition: nothing that was there is written over, and after the first file the others go by way of
// temporary names.
func TestStorageThatHeedsNoNamesIsAskedOnce(t *testing.T) {
	for name, refuses := range map[string]bool{"writes over": false, "knows no condition": true} {
		t.Run(name, func(t *testing.T) {
			objects, puts := map[string][]byte{"/locker/theirs.jpg": []byte("theirs")}, 0
			var mu sync.Mutex
			careless := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				mu.Lock()
				defer mu.Unlock()
				content, there := objects[r.URL.Path]
				switch {
				case r.Method == http.MethodPut && refuses:
					w.WriteHeader(http.StatusNotImplemented)
				case r.Method == http.MethodPut:
					puts++
					objects[r.URL.Path], _ = io.ReadAll(r.Body)
				case !there:
					w.WriteHeader(http.StatusNotFound)
				default:
					w.Header().Set("Last-Modified", "Mon, 30 Nov 2026 10:00:00 GMT")
					w.Header().Set("ETag", `"tag"`)
					w.Header().Set("Content-Length", strconv.Itoa(len(content)))
				}
			}))
			t.Cleanup(careless.Close)
			d := driver(t, s3.Options{URL: careless.URL, Bucket: "locker", User: "u", Region: "us-east-1"}, "p")
			place := func(to, content string) error {
				return d.Place(t.Context(), to, []byte(content), destinationtest.Sum([]byte(content)))
			}
			require.ErrorIs(t, place("theirs.jpg", "ours"), destination.ErrExists)
			err := place("first.jpg", "first")
			if refuses {
				require.ErrorIs(t, err, destination.ErrUnable)
			} else {
				require.NoError(t, err, "it lies there")
			}
			for _, to := range []string{"theirs.jpg", "first.jpg", "second.jpg"} {
				require.ErrorIs(t, place(to, "second"), destination.ErrUnable)
			}
			mu.Lock()
			defer mu.Unlock()
			assert.Equal(t, "theirs", string(objects["/locker/theirs.jpg"]))
			assert.NotContains(t, objects, "/locker/second.jpg")
			assert.LessOrEqual(t, puts, 2, "the first file, and the same again")
		})
	}
}
