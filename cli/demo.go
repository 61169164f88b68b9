package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"log/slog"
	"path/filepath"
	"time"

	"yardtide/core/gate"
	"yardtide/service"
	"yardtide/standin"
	"yardtide/wire"
)

func demoCommand() command {
	return command{
		name: "demo", usage: "[flags]", short: "run a demo yard with a simulated phone and storage",
		long: `Makes a household's demo yard, once, and runs it until interrupted: a
computer (a real folder), a simulated phone with a gallery, a simulated WebDAV
storage, a shed behind a real SSH server and a bucket of a real S3 gateway
(folders, where this machine has no such servers). The phone's network and
power are set in the console. Remove the folder to begin anew.`,
		setup: func(fs *flag.FlagSet) func(context.Context, env, []string) error {
			dir := fs.String("dir", ".demo", "the demo's `folder`")
			listen := fs.String("listen", "127.0.0.1:7400", "the loopback `address` of the service")
			storage := fs.String("storage", "127.0.0.1:7480", "the loopback `address` of the simulated storage")
			rate := fs.Int64("rate", 1_500_000, "bytes a second that the storage takes, 0 for no limit")
			room := fs.Int64("room", 40_000_000, "bytes that the simulated storage holds")
			items := fs.Int("items", 120, "about how many pictures and clips")
			clips := fs.Bool("clips", true, "make video clips, with ffmpeg")
			alone := fs.Bool("alone", false, "only the simulated storage, without the shed and the bucket")
			return func(ctx context.Context, e env, args []string) (err error) {
				if err := noArguments(args); err != nil {
					return err
				}
				if *items < 1 || *rate < 0 || *room < 0 {
					return wrongUse("-items, -rate and -room cannot be negative")
				}
				log := slog.New(slog.NewTextHandler(e.err, &slog.HandlerOptions{Level: slog.LevelWarn}))
				fmt.Fprintf(e.out, "making the demo yard in %s\n", *dir)
				d, err := standin.StartDemo(ctx, standin.DemoOptions{Dir: *dir, Items: *items, Listen: *storage, Rate: *rate, Log: log, NoClips: !*clips, Alone: *alone, Room: *room})
				if err != nil {
					return err
				}
				defer func() { err = errors.Join(err, d.Close()) }()
				o := service.Options{
					Dir: filepath.Join(*dir, "data"), Log: log, Standin: phones{d},
					Members: []service.Member{
						{Name: d.Phone.Name, Root: d.Phone.Root, Sensor: &d.Phone.Sensor},
						{Name: d.Computer.Name, Root: d.Computer.Root, Sensor: &d.Computer.Sensor},
					},
				}
				return serve(ctx, e, *listen, o, func(s *service.Service, _ string) error {
					fmt.Fprintf(e.out, "storage   %s, simulated, keeps files in %s\n", d.Storage.URL(), d.Storage.Dir)
					if !*alone {
						fmt.Fprintf(e.out, "storage   tool-shed (%s) and sail-loft (%s), in %s\n", d.Others.Shed.Kind, d.Others.Bucket.Kind, *dir)
					}
					fmt.Fprintf(e.out, "phone     %s, simulated, gallery in %s\n", d.Phone.Name, filepath.Join(d.Phone.Root, "DCIM"))
					fmt.Fprintf(e.out, "computer  %s, copy a photo into %s\n", d.Computer.Name, filepath.Join(d.Computer.Root, "Restoration"))
					if s.Plan() != nil {
						return nil // the one that is in force stays
					}
					_, err := s.ApplyPlan(service.AtTheMachine(ctx), "the demo's plan", d.Plan, 0)
					return err
				})
			}
		},
	}
}

// phones shows the demo's phone to the service.
type phones struct{ d *standin.Demo }

func (p phones) Phones() []wire.Phone {
	return []wire.Phone{{Device: p.d.Phone.Name, Conditions: p.d.Phone.Sensor.Get(), Timeline: p.d.Phone.Follows()}}
}

func (p phones) one(device string) (*standin.Phone, error) {
	if device != p.d.Phone.Name {
		return nil, fmt.Errorf("there is no simulated phone %q; there is %s", device, p.d.Phone.Name)
	}
	return &p.d.Phone, nil
}

func (p phones) SetPhone(_ context.Context, device string, c gate.Conditions) error {
	phone, err := p.one(device)
	if err == nil {
		phone.Set(c)
	}
	return err
}

func (p phones) FollowTimeline(_ context.Context, device string) error {
	phone, err := p.one(device)
	if err == nil {
		phone.Follow()
	}
	return err
}

func (p phones) TakePicture(_ context.Context, device string) error {
	phone, err := p.one(device)
	if err != nil {
		return err
	}
	return phone.TakePicture(time.Now())
}
