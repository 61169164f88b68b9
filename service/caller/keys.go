package caller

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"
	"sync"
	"time"

	"yardtide/engine/atomicfile"
)

// Keys are what lets a caller in: the service's token, the cookie that is made from the token,
// and links that open once.
type Keys struct {
	token string

	mu    sync.Mutex
	links map[string]time.Time // one-time codes and when they end
}

// OpenKeys reads the service's token from a file, and makes the token at the first start.
func OpenKeys(file string) (*Keys, error) {
	token, err := readToken(file)
	return &Keys{token: token, links: map[string]time.Time{}}, err
}

func readToken(file string) (string, error) {
	text, err := os.ReadFile(file)
	if err == nil {
		t := strings.TrimSpace(string(text))
		if len(t) < 32 {
			return "", fmt.Errorf("the token in %s is shorter than 32 characters; remove the file and a new one is made", file)
		}
		return t, nil
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return "", fmt.Errorf("reading the token: %w", err)
	}
	t := NewToken()
	if err := atomicfile.Write(file, t+"\n"); err != nil {
		return "", fmt.Errorf("keeping the token: %w", err)
	}
	return t, nil
}

// NewToken makes a token of 32 random bytes, in hexadecimal digits.
func NewToken() string {
	b := make([]byte, 32)
	_, _ = rand.Read(b) // it never fails (crypto/rand)
	return hex.EncodeToString(b)
}

// Authorized tells whether a bearer token is the service's.
func (k *Keys) Authorized(bearer string) bool {
	return hmac.Equal([]byte(bearer), []byte(k.token))
}

// Cookie is what a browser holds after it opened a one-time link. The cookie is made
// from the token: it outlives a restart and ends with the token.
func (k *Keys) Cookie() string {
	h := hmac.New(sha256.New, []byte(k.token))
	h.Write([]byte("console"))
	return hex.EncodeToString(h.Sum(nil))
}

// IsCookie tells whether a browser's cookie is good.
func (k *Keys) IsCookie(value string) bool {
	return hmac.Equal([]byte(value), []byte(k.Cookie()))
}

// linkLife is how long a one-time link may wait to be opened.
const linkLife = time.Hour

// NewLink makes the code of a one-time link.
func (k *Keys) NewLink(now time.Time) string {
	code := NewToken()
	k.mu.Lock()
	defer k.mu.Unlock()
	for c, end := range k.links {
		if now.After(end) {
			delete(k.links, c)
		}
	}
	k.links[code] = now.Add(linkLife)
	return code
}

// UseLink tells whether a code is good, once.
func (k *Keys) UseLink(code string, now time.Time) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	end, ok := k.links[code]
	delete(k.links, code)
	return ok && now.Before(end)
}
