package e2e

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/wire/phonewire"
)

// SIGKILLs while phones hand over, and cuts at random: what a phone was told as handed over is on disk from that moment
// on, nothing is there twice, and nothing is seen before it is whole. YARDTIDE_PHONES and YARDTIDE_KILLS tell how many
// phones, with 100 files each, and how many kills.
func TestPhonesHandOverThroughKills(t *testing.T) {
	t.Parallel()
	nPhones, nFiles, nKills := 4, 20, 8
	if n, err := strconv.Atoi(os.Getenv("YARDTIDE_PHONES")); err == nil {
		nPhones, nFiles, nKills = n, 100, kills()
	}
	s := demo(t, t.TempDir(), "-items", "2", "-clips=false")
	var keys []phonewire.PhoneKeys
	for i := range nPhones {
		if i == 0 {
			keys = append(keys, phoneOf(t, s, "phone-0"))
			continue
		}
		k, err := s.client().Phones().Add(t.Context(), phonewire.PhoneAdd{Name: fmt.Sprintf("phone-%d", i)})
		require.NoError(t, err)
		keys = append(keys, k)
	}
	random := rand.NewChaCha8([32]byte{23})
	r := rand.New(random)
	var wanted []handing
	whole := map[string]bool{}
	for i, k := range keys {
		at, token, found := strings.Cut(k.Page.Address, "/p/#")
		require.True(t, found)
		for n := range nFiles {
			h := handing{at: at, token: token, phone: fmt.Sprintf("phone-%d", i), name: fmt.Sprintf("p%d.jpg", n), is: make([]byte, 30_000+r.IntN(400_000))}
			_, _ = random.Read(h.is) // it never fails
			copy(h.is, "\xff\xd8\xff\xe0")
			h.sum = fmt.Sprintf("%x", sha256.Sum256(h.is))
			wanted = append(wanted, h)
			whole[h.phone+" "+h.sum] = true
		}
	}
	var mu sync.Mutex
	told := map[string]bool{} // handed over, as the phone heard
	var all sync.WaitGroup
	line := make(chan handing)
	for range 3 * nPhones {
		all.Go(func() {
			for h := range line {
				if h.handOver(t) {
					mu.Lock()
					told[h.phone+" "+h.sum] = true
					mu.Unlock()
				}
			}
		})
	}
	killed := make(chan struct{})
	all.Go(func() { // so slowly that every kill comes while something is sent
		for _, h := range wanted {
			select {
			case <-killed:
			case <-time.After(time.Duration(nKills) * 700 * time.Millisecond / time.Duration(len(wanted))):
			}
			line <- h
		}
		close(line)
	})
	for range nKills {
		time.Sleep(time.Duration(50+rand.IntN(400)) * time.Millisecond)
		s.kill()
		mu.Lock()
		before := make([]string, 0, len(told))
		for one := range told {
			before = append(before, one)
		}
		mu.Unlock()
		there := inInboxes(t, s)
		for one := range there {
			assert.True(t, whole[one], "something is seen that nobody handed over whole")
		}
		for _, one := range before {
			assert.Equal(t, 1, there[one], "told as handed over, and not there once: %s", one)
		}
		s.start()
	}
	close(killed)
	all.Wait()
	assert.Len(t, told, len(wanted))
	s.stop()
	there := inInboxes(t, s)
	assert.Len(t, there, len(wanted))
	for one, n := range there {
		assert.True(t, whole[one])
		assert.Equal(t, 1, n, one)
	}
}

// inInboxes counts what lies in the inboxes of phones by phone and content, in their holding places as well.
func inInboxes(t *testing.T, s *service) map[string]int {
	t.Helper()
	there := map[string]int{}
	for _, place := range []string{"page", ".held"} {
		files, err := filepath.Glob(filepath.Join(s.data, "inbox/phone-*", place, "*"))
		require.NoError(t, err)
		for _, file := range files {
			content, err := os.ReadFile(file)
			require.NoError(t, err)
			phone, _, _ := strings.Cut(strings.TrimPrefix(file, filepath.Join(s.data, "inbox")+"/"), "/")
			there[fmt.Sprintf("%s %x", phone, sha256.Sum256(content))]++
		}
	}
	return there
}

// handing is a file on its way from a phone.
type handing struct {
	at, token, phone, name, sum string
	is                          []byte
}

// handOver sends a file by tus until the service says that it has all of it, over cuts of its own and those of kills.
func (h handing) handOver(t *testing.T) bool {
	text := base64.StdEncoding.EncodeToString
	upload := ""
	for range 2000 {
		switch {
		case t.Context().Err() != nil:
			return false
		case upload == "":
			a, err := h.ask("POST", "/p/uploads", nil, "Upload-Length", strconv.Itoa(len(h.is)),
				"Upload-Metadata", "filename "+text([]byte(h.name))+",sha256 "+text([]byte(h.sum)))
			if err == nil && a.StatusCode == http.StatusCreated {
				upload = a.Header.Get("Location")
			}
		default:
			a, err := h.ask("HEAD", upload, nil)
			if err != nil {
				break
			}
			if a.StatusCode == http.StatusNotFound { // it was begun, and a kill came before its beginning was on disk
				upload = ""
				break
			}
			from, err := strconv.Atoi(a.Header.Get("Upload-Offset"))
			if err != nil {
				break
			}
			if from == len(h.is) {
				return true
			}
			end := min(len(h.is), from+rand.IntN(2*len(h.is)))
			a, err = h.ask("PATCH", upload, h.is[from:end], "Upload-Offset", strconv.Itoa(from), "Content-Type", "application/offset+octet-stream")
			if err == nil && a.StatusCode == http.StatusNoContent && end == len(h.is) {
				return true
			}
			continue
		}
		time.Sleep(20 * time.Millisecond)
	}
	return assert.Fail(t, "never handed over", h.name)
}

func (h handing) ask(method, path string, body []byte, headers ...string) (*http.Response, error) {
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, method, h.at+path, strings.NewReader(string(body)))
	if err != nil {
		return nil, err
	}
	r.Header.Set("Authorization", "Bearer "+h.token)
	r.Header.Set("Tus-Resumable", "1.0.0")
	for i := 0; i+1 < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	a, err := http.DefaultClient.Do(r)
	if err != nil {
		return nil, err
	}
	_, err = io.Copy(io.Discard, a.Body)
	return a, errors.Join(err, a.Body.Close())
}
