package standin

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"

	"yardtide/core/plan"
	"yardtide/core/plantext"
	"yardtide/standin/gateway"
	"yardtide/standin/server"
	"yardtide/standin/sshd"
)

// Others are the demo's storages beside the simulated cloud: a shed that is
// reached by SSH and a bucket of an S3 gateway, real servers where this machine
// has them, folders where not.
type Others struct {
	Shed, Bucket plan.Destination
	close        []func() error
}

// Close stops the servers.
func (o *Others) Close() error {
	var err error
	for _, end := range o.close {
		err = errors.Join(err, end())
	}
	return err
}

// startOthers starts them. Their addresses are kept, so that the plan of an
// earlier start still holds.
func startOthers(ctx context.Context, dir string, log *slog.Logger) (*Others, error) {
	o := &Others{}
	var address struct{ Shed, Bucket string }
	file := filepath.Join(dir, "addresses")
	text, err := os.ReadFile(file)
	switch {
	case err == nil:
		if err := json.Unmarshal(text, &address); err != nil {
			return nil, fmt.Errorf("reading %s: %w", file, err)
		}
	case !errors.Is(err, fs.ErrNotExist):
		return nil, err
	default:
		if address.Shed, err = server.Port(); err == nil {
			address.Bucket, err = server.Port()
		}
		if err == nil {
			text, err = json.Marshal(address)
		}
		if err == nil {
			err = os.WriteFile(file, text, 0o644)
		}
		if err != nil {
			return nil, fmt.Errorf("choosing addresses: %w", err)
		}
	}
	folder := func(name string) (plan.Destination, error) {
		path := filepath.Join(dir, name)
		return plan.Destination{Kind: plan.Folder, Path: path}, os.MkdirAll(path, 0o755)
	}
	if o.Shed, err = folder("tool-shed"); err != nil {
		return nil, err
	}
	keys := filepath.Join(dir, "tool-shed.sshd")
	if err := os.MkdirAll(keys, 0o700); err != nil {
		return nil, err
	}
	if s, err := sshd.Start(ctx, keys, sshd.Options{Address: address.Shed}); err == nil {
		o.close = append(o.close, s.Close)
		o.Shed = plan.Destination{Kind: plan.SFTP, Address: s.Address, HostKey: s.HostKey, Path: o.Shed.Path, User: s.User,
			KeyFrom: plan.Secret("file:" + s.KeyFile)}
	} else {
		log.Warn("the demo's shed is a folder: no SSH server was started (Debian: apt-get install openssh-server)", "err",
			err)
	}
	g := &gateway.Server{Root: filepath.Join(dir, "sail-loft"), Address: address.Bucket}
	if err := g.Start(ctx, "sail-loft"); err == nil {
		o.close = append(o.close, g.Close)
		secret := filepath.Join(dir, "sail-loft.secret")
		if err := os.WriteFile(secret, []byte(g.Password+"\n"), 0o600); err != nil {
			return nil, errors.Join(err, o.Close())
		}
		o.Bucket = plan.Destination{Kind: plan.S3, URL: g.Endpoint, Bucket: "sail-loft", User: g.User,
			PasswordFrom: plan.Secret("file:" + secret), Size: 2e9}
		return o, nil
	} else if !errors.Is(err, gateway.ErrMissing) {
		log.Warn("the demo's bucket is a folder: the S3 gateway was not started", "err", err)
	}
	o.Bucket, err = folder("sail-loft")
	return o, err
}

// withOthers puts them into the demo's plan, and the rules that use them.
func withOthers(text string, o *Others) (string, error) {
	text, err := plantext.Set(text, plan.Edit{Path: []string{"destinations", "tool-shed"},
		Value: plantext.DestinationValue(o.Shed)})
	if err == nil {
		text, err = plantext.Set(text, plan.Edit{Path: []string{"destinations", "sail-loft"},
			Value: plantext.DestinationValue(o.Bucket)})
	}
	if err != nil {
		return "", fmt.Errorf("writing the demo's plan: %w", err)
	}
	before, bench, _ := strings.Cut(text, "  bench:\n")
	before = strings.Replace(before, "to: [north-locker]", "to: [north-locker, tool-shed]", 1)
	return before + "  bench:\n" + strings.Replace(bench, "to: [north-locker]", "to: [north-locker as family, sail-loft]", 1), nil
}
