package run

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"yardtide/engine/atomicfile"
	"yardtide/service"
	"yardtide/service/phones"
	"yardtide/standin"
	"yardtide/wire/phonewire"
)

// demoPhone is the phone of the demo that hands over: by its page, which can be opened beside the console, and by an app.
const demoPhone = "ines-phone"

// handsOver adds the demo's phone, tells its page, and has its app upload, until the context ends.
func handsOver(ctx context.Context, s *service.Service, dir, listen string, out io.Writer) error {
	keys, err := demoKeys(ctx, s, filepath.Join(dir, "ines-phone-keys.json"))
	if err != nil {
		return err
	}
	n, _ := s.Phones.Network()
	if n.Plain != listen {
		n.Plain = listen
		if err := s.Phones.SetNetwork(n); err != nil {
			return err
		}
	}
	for n.PlainAt == "" {
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(50 * time.Millisecond):
		}
		if n, _ = s.Phones.Network(); n.PlainProblem != "" {
			return fmt.Errorf("the demo's phone cannot hand over: %s", n.PlainProblem)
		}
	}
	at := "http://" + n.PlainAt
	fmt.Fprintf(out, "phone     %s hands over by its browser: %s/p/#%s\n", demoPhone, at, keys.Page)
	return standin.App{Address: at + "/dav/", User: demoPhone, Password: keys.App, First: 1200}.Live(ctx)
}

// demoKeys are the keys of the demo's phone, which the demo keeps, so that its page goes on after a restart.
func demoKeys(ctx context.Context, s *service.Service, file string) (keys phones.Keys, err error) {
	text, err := os.ReadFile(file)
	if err == nil {
		err = json.Unmarshal(text, &keys)
	}
	if err == nil {
		if _, known := s.Phones.ByToken(keys.Page); known {
			return keys, nil
		}
	} else if !errors.Is(err, fs.ErrNotExist) {
		return keys, fmt.Errorf("reading the keys of the demo's phone: %w", err)
	}
	if _, keys, err = s.Phones.Add(ctx, phonewire.PhoneAdd{Name: demoPhone, Person: "ines", Rule: "bench"}, time.Now()); err != nil {
		return keys, err
	}
	out, err := json.Marshal(keys)
	if err == nil {
		err = atomicfile.Write(file, string(out))
	}
	if err != nil {
		return keys, fmt.Errorf("keeping the keys of the demo's phone: %w", err)
	}
	return keys, nil
}
