// Package browser drives the console in headless Chromium, as a person would:
// by what stands on buttons, with a real pointer and real keys.
package browser

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
)

// Browser is one tab of a Chromium.
type Browser struct {
	ctx    context.Context
	cancel func()
	dir    string

	mu         sync.Mutex
	complaints []string
}

// Start starts Chromium (Debian's package chromium).
func Start(parent context.Context) (*Browser, error) { return Trusting(parent, "") }

// Trusting starts a browser that was led to trust a key, by the SHA-256 of its SubjectPublicKeyInfo in Base64.
func Trusting(parent context.Context, trusts string) (*Browser, error) {
	dir, err := os.MkdirTemp("", "yardtide-chromium-")
	if err != nil {
		return nil, fmt.Errorf("making the browser's folder: %w", err)
	}
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.UserDataDir(dir), chromedp.ExecPath("/usr/bin/chromium"),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("lang", "en-GB"),
		// A host on loopback to which browsers give no more than to any other: phone.test.
		chromedp.Flag("host-resolver-rules", "MAP phone.test 127.0.0.1"), chromedp.Flag("ignore-certificate-errors-spki-list", trusts))
	allocated, endBrowser := chromedp.NewExecAllocator(parent, opts...)
	ctx, endTab := chromedp.NewContext(allocated)
	b := &Browser{ctx: ctx, dir: dir, cancel: func() { endTab(); endBrowser() }}
	if err := chromedp.Do(ctx, chromedp.Navigate("about:blank")); err != nil {
		return nil, errors.Join(fmt.Errorf("starting Chromium (Debian: apt-get install chromium): %w", err), b.Close())
	}
	err = chromedp.Listen(ctx, func(ev any) {
		b.mu.Lock()
		defer b.mu.Unlock()
		switch e := ev.(type) {
		case *runtime.EventExceptionThrown:
			b.complaints = append(b.complaints, fmt.Sprintf("%+v", e.ExceptionDetails))
		case *log.EventEntryAdded:
			// Tests beside have networks of their own come and go: what the browser asked at that moment it asks again.
			if e.Entry.Level == "error" && !strings.Contains(e.Entry.Text, "ERR_NETWORK_CHANGED") {
				b.complaints = append(b.complaints, e.Entry.Text+" "+e.Entry.URL)
			}
		}
	})
	return b, errors.Join(err, b.Size(1280, 800))
}

// Complaints are the errors that pages wrote to the browser's console, among
// them breaches of the Content-Security-Policy, since the last call.
func (b *Browser) Complaints() []string {
	b.mu.Lock()
	defer b.mu.Unlock()
	c := b.complaints
	b.complaints = nil
	return c
}

// Close ends the browser.
func (b *Browser) Close() error {
	b.cancel()
	var err error
	for range 50 { // its children still write for a moment
		if err = os.RemoveAll(b.dir); err == nil {
			return nil
		}
		time.Sleep(100 * time.Millisecond)
	}
	return err
}

const patience = time.Minute

func (b *Browser) do(steps ...chromedp.Action[chromedp.Void]) error {
	ctx, cancel := context.WithTimeout(b.ctx, patience)
	defer cancel()
	return chromedp.Do(ctx, steps...)
}

// Size sets the window's inner size in pixels.
func (b *Browser) Size(w, h int64) error { return b.do(chromedp.EmulateViewport(w, h)) }

// Phone makes the window a phone's: 390 by 844 pixels, under a finger.
func (b *Browser) Phone() error {
	return b.do(chromedp.EmulateViewport(390, 844, chromedp.EmulateMobile, chromedp.EmulateTouch))
}

// Pick chooses files in the field that has a label, as its dialog would.
func (b *Browser) Pick(label string, files ...string) error {
	return b.do(chromedp.SetUploadFiles(chromedp.CSS(fmt.Sprintf("input[type=file][aria-label=%q]", label)), files))
}

// Scheme sets the colour scheme that the person prefers: "light" or "dark".
func (b *Browser) Scheme(scheme string) error {
	ctx, cancel := context.WithTimeout(b.ctx, patience)
	defer cancel()
	_, err := chromedp.Call(ctx, emulation.SetEmulatedMedia,
		emulation.SetEmulatedMediaParams{Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: scheme}}})
	return err
}

// Open goes to an address.
func (b *Browser) Open(url string) error { return b.do(chromedp.Navigate(url)) }

// Shot takes a picture of the window.
func (b *Browser) Shot() ([]byte, error) {
	ctx, cancel := context.WithTimeout(b.ctx, patience)
	defer cancel()
	return chromedp.Run(ctx, chromedp.CaptureScreenshot())
}

// Eval runs a script and returns its value.
func Eval[T any](b *Browser, script string) (T, error) {
	ctx, cancel := context.WithTimeout(b.ctx, patience)
	defer cancel()
	return chromedp.Run(ctx, chromedp.Evaluate[T](script, chromedp.EvalAwaitPromise))
}

// Text is what the page says.
func (b *Browser) Text() (string, error) {
	return Eval[string](b, `document.body?.innerText ?? ""`)
}

// Press presses a key, such as kb.Escape.
func (b *Browser) Press(keys string) error { return b.do(chromedp.KeyEvent(keys)) }

// Type puts text into the field that has a label, in place of what it holds.
func (b *Browser) Type(label, text string) error {
	args, err := json.Marshal([]string{label, text})
	if err != nil {
		return err
	}
	for end := time.Now().Add(patience); ; time.Sleep(20 * time.Millisecond) {
		found, err := Eval[bool](b, fmt.Sprintf(`(([label, text]) => {
  const field = [...document.querySelectorAll('input, textarea')].find(e => (e.getAttribute('aria-label') || e.labels?.[0]?.innerText || '').trim().startsWith(label));
  if (!field) return false;
  field.focus();
  field.select();
  return document.execCommand('insertText', false, text);
})(%s)`, args))
		switch {
		case err != nil || found:
			return err
		case time.Now().After(end):
			return fmt.Errorf("no field is labelled %q", label)
		}
	}
}

// finder looks for what can be clicked by its label: exactly, else by its
// beginning or a part; scrolls it into sight and tells its middle, unless something
// covers it still, such as a dialog that closes.
const finder = `(label => {
  const named = [...document.querySelectorAll('button, a, [role=option], [role=menuitem], [role=radio], [role=switch], summary, input[type=checkbox]')]
    .filter(e => e.getClientRects().length > 0)
    .map(e => [e, (e.getAttribute('aria-label') || e.labels?.[0]?.innerText || e.innerText || '').trim()]);
  const hit = named.find(([, n]) => n === label) || named.find(([, n]) => n.startsWith(label)) || named.find(([, n]) => n.includes(label));
  if (!hit) return null;
  hit[0].scrollIntoView({ block: 'center' });
  window.wanted = hit[0];
  window.pressed = null;
  window.watching ??= document.addEventListener('pointerdown', e => {
    window.pressed = window.wanted.contains(e.target) || !!e.target.closest?.('label')?.contains(window.wanted);
  }, true) ?? true;
  const r = hit[0].getBoundingClientRect();
  const [X, Y] = [r.x + r.width / 2, r.y + r.height / 2];
  const top = document.elementFromPoint(X, Y);
  return hit[0].contains(top) || top?.closest('label')?.contains(hit[0]) ? { X, Y } : null;
})(%s)`

// Click clicks on what has a label, waiting for it to appear.
func (b *Browser) Click(label string) error {
	quoted, err := json.Marshal(label)
	if err != nil {
		return err
	}
	type point struct{ X, Y float64 }
	var before *point
	for deadline := time.Now().Add(patience); ; time.Sleep(40 * time.Millisecond) {
		at, err := Eval[*point](b, fmt.Sprintf(finder, quoted))
		if err == nil && at != nil && before != nil && *at == *before { // it stands still: what comes in later moves it
			if err := b.do(chromedp.MouseClickXY(at.X, at.Y)); err != nil {
				return err
			}
			hit, err := Eval[*bool](b, `window.pressed ?? null`)
			if err != nil || hit == nil || *hit { // without an answer it led to another page
				return nil
			}
			at = nil // it moved in that moment: something else was there
		}
		if before = at; err != nil { // it fails while the page changes to another
			before = nil
		}
		if time.Now().After(deadline) {
			text, _ := b.Text() // only for the message
			return fmt.Errorf("nothing to click is labelled %q (%v) on a page that says:\n%s", label, err, text)
		}
	}
}
