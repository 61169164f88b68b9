package e2e

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"crypto/tls"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/e2e/browser"
	"yardtide/standin"
	"yardtide/wire/phonewire"
)

// phoneOf adds a phone to a yard, which listens for it without encryption.
func phoneOf(t *testing.T, s *service, name string) phonewire.PhoneKeys {
	t.Helper()
	n, err := s.client().Phones().Network(t.Context())
	require.NoError(t, err)
	n.Plain = freePort(t)
	n, err = s.client().Phones().SetNetwork(t.Context(), n)
	require.NoError(t, err)
	require.Empty(t, n.PlainProblem)
	out, errOut, code := s.run("phone", "add", name, "-json")
	require.Zero(t, code, errOut)
	var k phonewire.PhoneKeys
	require.NoError(t, json.Unmarshal([]byte(out), &k))
	return k
}

// atThePhone opens a phone's page in its browser: on a host to which browsers give no more than to any other.
func atThePhone(t *testing.T, s *service, page string) keeper {
	t.Helper()
	b, err := browser.Start(t.Context())
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, b.Close()) })
	require.NoError(t, b.Phone())
	require.NoError(t, b.Open(strings.Replace(page, "127.0.0.1", "phone.test", 1)))
	return keeper{t, b, s}
}

// galleryOf makes pictures for a phone to pick.
func galleryOf(t *testing.T, n, width int) (files []string) {
	t.Helper()
	dir := t.TempDir()
	for i := range n {
		content, err := standin.JPEG(700+i, width, time.Date(2026, 7, 1, 10, i, 0, 0, time.UTC))
		require.NoError(t, err)
		files = append(files, fmt.Sprintf("%s/IMG_%04d.jpg", dir, i))
		require.NoError(t, os.WriteFile(files[i], content, 0o644))
	}
	return files
}

// A phone's browser hands pictures over, is told what is safe, and sends nothing twice.
func TestAPhoneHandsOverByItsPage(t *testing.T) {
	t.Parallel()
	s := demo(t, t.TempDir(), "-items", "2", "-clips=false")
	keys := phoneOf(t, s, "toms-phone")
	k := atThePhone(t, s, keys.Page.Address)
	k.sees("Your pictures, kept safe by Saltmarsh Slip", "Choose pictures and clips", "What may I delete?", "this phone has handed nothing over")
	looks := looksIn(t, k)
	looks("before anything is chosen")
	files := galleryOf(t, 30, 900)
	require.NoError(t, k.b.Pick("Pictures and clips", files...))
	k.sees("All of them are handed over")
	// It is a device of the yard, under its rules; what is safe is told on the phone.
	k.sees("Of the last 30 that this phone handed over, 30 may be deleted here.", "Safe at north-locker: may be deleted here.")
	looks("once all is safe")
	out, _, code := s.run("queue", "-device", "toms-phone", "-state", "safe")
	assert.Zero(t, code)
	assert.Contains(t, out, "toms-phone:page/IMG_0000.jpg")
	out, _, _ = s.run("why", "IMG_0000.jpg")
	assert.Contains(t, out, "2026/07/IMG_0000.jpg", "when it was taken counts, and not when it was handed over")
	out, _, _ = s.run("phone", "list")
	assert.Contains(t, out, "It handed over 30 files")
	assert.Contains(t, out, "the last by its page")
	// The key is kept by the phone, and is in no address; the same pictures are known by their content.
	address, err := browser.Eval[string](k.b, `location.href`)
	require.NoError(t, err)
	assert.NotContains(t, address, "#")
	require.NoError(t, k.b.Open(strings.Replace(strings.Split(keys.Page.Address, "#")[0], "127.0.0.1", "phone.test", 1)))
	k.sees("may be deleted here")
	require.NoError(t, k.b.Pick("Pictures and clips", files[:3]...))
	k.sees("3 of them were here already, and not sent again.")
	assert.Empty(t, k.b.Complaints())
	assert.NotContains(t, s.log.String(), keys.Page.Password)
	assert.NotContains(t, s.log.String(), keys.WebDAV.Password)
	// A key that was taken back opens nothing.
	_, _, code = s.run("phone", "revoke", "toms-phone")
	assert.Zero(t, code)
	k.sees("This phone's key was taken back")
	looks("without a key")
}

// The page asks before it uses a network that may cost; where the inbox is full it says so, and goes on once there is room.
func TestAPhonesPageAsksAndWaits(t *testing.T) {
	t.Parallel()
	s := demo(t, t.TempDir(), "-items", "2", "-clips=false")
	keys := phoneOf(t, s, "toms-phone")
	_, errOut, code := s.run("phone", "set", "toms-phone", "-most", "1 MB")
	require.Zero(t, code, errOut)
	k := atThePhone(t, s, keys.Page.Address)
	k.sees("Choose pictures and clips")
	_, err := browser.Eval[bool](k.b, `Object.defineProperty(navigator, "connection", {value: {type: "cellular"}, configurable: true}) === navigator`)
	require.NoError(t, err)
	files := galleryOf(t, 1, 3000)
	content, err := os.ReadFile(files[0])
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(files[0], append(content, make([]byte, 2<<20)...), 0o644))
	require.NoError(t, k.b.Pick("Pictures and clips", files...))
	k.sees("Your phone is on a network that may cost.", "Hand over 1 file")
	looksIn(t, k)("asked whether to use a network that may cost")
	k.click("Not now")
	k.gone("network that may cost")
	require.NoError(t, k.b.Pick("Pictures and clips", files...))
	k.click("Hand over now")
	k.sees("There is no room for", "the inbox of toms-phone may take 1.0 MB", "waits for the network")
	out, _, _ := s.run("status")
	assert.Contains(t, out, "toms-phone could not hand something over. There is no room")
	_, _, code = s.run("phone", "set", "toms-phone", "-most", "20 MB")
	require.Zero(t, code)
	k.sees("All of them are handed over")
}

// A service that is killed while a phone sends, and a page that is loaded anew: it goes on where it was, and every
// picture is there once.
func TestAPhonesPageOutlivesKills(t *testing.T) {
	t.Parallel()
	s := demo(t, t.TempDir(), "-items", "2", "-clips=false")
	keys := phoneOf(t, s, "toms-phone")
	k := atThePhone(t, s, keys.Page.Address)
	k.sees("Choose pictures and clips")
	dir := t.TempDir()
	want := map[string]bool{}
	var files []string
	r := rand.NewChaCha8([32]byte{7})
	for i := range 24 {
		content, err := standin.JPEG(700+i, 600, time.Date(2026, 7, 1, 10, i, 0, 0, time.UTC))
		require.NoError(t, err)
		more := make([]byte, 6<<20) // what follows a picture's end is kept
		_, _ = r.Read(more)
		content = append(content, more...)
		files = append(files, fmt.Sprintf("%s/IMG_%04d.jpg", dir, i))
		require.NoError(t, os.WriteFile(files[i], content, 0o644))
		want[fmt.Sprintf("%x", sha256.Sum256(content))] = true
	}
	require.NoError(t, k.b.Pick("Pictures and clips", files...))
	for range 3 {
		time.Sleep(700 * time.Millisecond)
		s.kill()
		s.start()
	}
	// The page is loaded anew in the middle: it has to be given the files once more, and says so.
	require.NoError(t, k.b.Open("about:blank"))
	require.NoError(t, k.b.Open(strings.Replace(strings.Split(keys.Page.Address, "#")[0], "127.0.0.1", "phone.test", 1)))
	k.sees("Choose pictures and clips")
	require.NoError(t, k.b.Pick("Pictures and clips", files...))
	s.kill()
	s.start()
	end := time.Now().Add(90 * time.Second)
	for !strings.Contains(k.text(), "All of them are handed over") {
		require.True(t, time.Now().Before(end), k.text())
		time.Sleep(200 * time.Millisecond)
	}
	got := map[string]int{}
	for _, place := range []string{"page", ".held"} {
		all, err := filepath.Glob(filepath.Join(s.data, "inbox/toms-phone", place, "*"))
		require.NoError(t, err)
		for _, file := range all {
			content, err := os.ReadFile(file)
			require.NoError(t, err)
			got[fmt.Sprintf("%x", sha256.Sum256(content))]++
		}
	}
	assert.Len(t, got, len(want))
	for hash, n := range got {
		assert.True(t, want[hash])
		assert.Equal(t, 1, n)
	}
}

// Over https, with a certificate that the phone was led to trust: pictures are shared to the page from the gallery.
func TestAPhoneSharesToItsPageOverHTTPS(t *testing.T) {
	t.Parallel()
	s := demo(t, t.TempDir(), "-items", "2", "-clips=false")
	_, errOut, code := s.run("device", "network", freePort(t))
	require.Zero(t, code, errOut)
	require.Eventually(t, func() bool {
		h, err := s.client().HomeNetwork(t.Context())
		return err == nil && h.Listening
	}, time.Minute, 50*time.Millisecond)
	out, errOut, code := s.run("phone", "add", "toms-phone", "-json")
	require.Zero(t, code, errOut)
	var keys phonewire.PhoneKeys
	require.NoError(t, json.Unmarshal([]byte(out), &keys))
	require.True(t, strings.HasPrefix(keys.Page.Address, "https://"), keys.Page.Address)
	assert.Contains(t, strings.Join(keys.Notes, " "), "the certificate is this yard's own")
	at := strings.Split(keys.Page.Address, "/p/")[0]

	// Who trusts the yard's certificate, once, is warned no more: it speaks for addresses of home networks alone.
	strange := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	a, err := strange.Get(at + "/p/certificate.crt")
	require.NoError(t, err)
	require.NoError(t, a.Body.Close())
	assert.Equal(t, "application/x-x509-ca-cert", a.Header.Get("Content-Type"))
	chain := a.TLS.PeerCertificates
	require.Len(t, chain, 2)
	require.NoError(t, chain[0].CheckSignatureFrom(chain[1]))
	assert.NoError(t, chain[0].VerifyHostname("127.0.0.1"))
	assert.Less(t, chain[0].NotAfter.Sub(chain[0].NotBefore), 398*24*time.Hour)
	assert.NotEmpty(t, chain[1].PermittedIPRanges)

	pin := sha256.Sum256(chain[0].RawSubjectPublicKeyInfo)
	b, err := browser.Trusting(t.Context(), base64.StdEncoding.EncodeToString(pin[:]))
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, b.Close()) })
	require.NoError(t, b.Phone())
	require.NoError(t, b.Open(keys.Page.Address))
	k := keeper{t, b, s}
	k.sees("Choose pictures and clips")
	require.NoError(t, b.Pick("Pictures and clips", galleryOf(t, 2, 500)...))
	k.sees("All of them are handed over")
	manifest, err := browser.Eval[string](b, `fetch(document.querySelector('link[rel=manifest]').href).then(r => r.json()).then(m => m.share_target.action)`)
	require.NoError(t, err)
	assert.Equal(t, "/p/share", manifest)
	// What a gallery shares comes as a form, which the browser sends with the cookie alone.
	require.Eventually(t, func() bool {
		code, err := browser.Eval[int](b, `(async () => {
			const form = new FormData();
			form.append('files', new File([new Uint8Array(500).fill(7)], 'shared.jpg', {type: 'image/jpeg'}));
			return (await fetch('/p/share', {method: 'POST', body: form, redirect: 'manual'})).type === 'opaqueredirect' ? 303 : 0;
		})()`)
		return err == nil && code == 303
	}, time.Minute, 200*time.Millisecond, "the page asked for the cookie")
	require.NoError(t, b.Open(at+"/p/?shared=1"))
	k.sees("One picture was handed over.")
	assert.FileExists(t, filepath.Join(s.data, "inbox/toms-phone/page/shared.jpg"))
	require.NoError(t, b.Open("about:blank"))
}

// The keeper adds a phone on the page, is told its keys once, and takes them back.
func TestThePageAddsAPhone(t *testing.T) {
	t.Parallel()
	s := demo(t, t.TempDir(), "-items", "2", "-clips=false")
	k := atTheConsole(t, s)
	k.sees("Storage")
	k.click("Devices")
	k.sees("Phones that hand over")
	k.click("Switch on: Without encryption")
	require.NoError(t, k.b.Type("Address: Without encryption", freePort(t)))
	k.click("Listen there")
	k.sees("Without encryption\nat 127.0.0.1:")
	k.click("Add a device", "A phone, by its browser or an app")
	require.NoError(t, k.b.Type("What the phone is called", "galley-phone"))
	k.click("Add it")
	k.sees("a device galley-phone already; give the phone another name")
	assert.Len(t, k.b.Complaints(), 1, "of the refusal alone")
	require.NoError(t, k.b.Type("What the phone is called", "toms-phone"))
	k.click("Add it")
	k.sees("toms-phone hands over from now on", "These keys are told once", "In the app's settings for uploads choose WebDAV")
	looks := looksIn(t, k)
	looks("the keys of a phone")
	page, err := browser.Eval[string](k.b, `[...document.querySelectorAll('code')].map(c => c.innerText).find(t => t.includes('/p/#'))`)
	require.NoError(t, err)
	phone := atThePhone(t, s, page)
	phone.sees("Choose pictures and clips")
	require.NoError(t, phone.b.Pick("Pictures and clips", galleryOf(t, 2, 500)...))
	phone.sees("All of them are handed over")
	k.click("Done")
	k.sees("Hands over by its browser or an app", "It handed over 2 files", "the last by its page")
	looks("a phone among the devices")
	k.click("New keys for toms-phone")
	k.sees("New keys for toms-phone")
	phone.sees("This phone's key was taken back")
	k.click("Revoke toms-phone")
	k.click("Revoke it: toms-phone")
	k.sees("It is answered no more.")
	assert.Empty(t, k.b.Complaints())
}

// A picture and what belongs to it come from a phone one after the other, in either order, and lie together.
func TestAPairFromAPhoneStaysTogether(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := demo(t, dir, "-items", "2", "-clips=false")
	keys := phoneOf(t, s, "toms-phone")
	likes(t, dir+"/IMG_1.xmp", "At low tide")
	picture, err := os.ReadFile(galleryOf(t, 1, 400)[0])
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(dir+"/IMG_1.jpg", picture, 0o644))
	for _, name := range []string{"IMG_1.xmp", "IMG_1.jpg"} {
		out, err := exec.CommandContext(t.Context(), "curl", "-sSf", "-T", dir+"/"+name, "-u", keys.WebDAV.User+":"+keys.WebDAV.Password,
			keys.WebDAV.Address+name).CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	var why string
	require.Eventually(t, func() bool {
		why, _, _ = s.run("why", "IMG_1.xmp")
		return strings.Contains(why, "2026/07/IMG_1.xmp")
	}, time.Minute, 100*time.Millisecond, "it lies by the date of its picture")
	assert.Contains(t, why, "with IMG_1.xmp, document")
	assert.Contains(t, why, "2026/07/IMG_1.jpg")
}
