package run

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"yardtide/cli"
	"yardtide/core/gate"
	"yardtide/engine/link"
	"yardtide/service"
	"yardtide/service/api"
	"yardtide/service/caller"
	"yardtide/standin"
	"yardtide/wire"

	"golang.org/x/sync/errgroup"
)

func demoCommand() cli.Command {
	return cli.Command{
		Name: "demo", Usage: "[flags]", Short: "run a demo yard with simulated devices and storage",
		Long: `Makes a household's demo yard, once, and runs it until interrupted: a
simulated phone with a gallery, another phone, a tablet, a laptop and a computer (a
real folder) as processes of their own that joined by a code, a simulated WebDAV
storage, a shed behind a real SSH server and a bucket of a real S3 gateway
(folders, where this machine has no such servers). What the devices sense, and the
clock by which they live, is set in the console. Remove the folder to begin anew.`,
		Setup: func(fs *flag.FlagSet) func(context.Context, cli.Env, []string) error {
			dir := fs.String("dir", ".demo", "the demo's `folder`")
			listen := fs.String("listen", "127.0.0.1:7400", "the loopback `address` of the service")
			storage := fs.String("storage", "127.0.0.1:7480", "the loopback `address` of the simulated storage")
			rate := fs.Int64("rate", 1_500_000, "bytes a second that the storage takes, 0 for no limit")
			room := fs.Int64("room", 43_000_000, "bytes that the simulated storage holds")
			items := fs.Int("items", 120, "about how many pictures and clips")
			clips := fs.Bool("clips", true, "make video clips, with ffmpeg")
			home := fs.String("home-network", "127.0.0.1:0", "the `address` at which the demo's other devices reach the service")
			phone := fs.String("phone", "127.0.0.1:0", "the loopback `address` of the page for the demo's phone")
			alone := fs.Bool("alone", false, "only the simulated storage and two devices, without the shed, the bucket and "+
				"the devices that run by themselves")
			return func(ctx context.Context, e cli.Env, args []string) (err error) {
				if err := cli.NoArguments(args); err != nil {
					return err
				}
				if *items < 1 || *rate < 0 || *room < 0 {
					return cli.WrongUse("-items, -rate and -room cannot be negative")
				}
				log := slog.New(slog.NewTextHandler(e.Err, &slog.HandlerOptions{Level: slog.LevelWarn}))
				fmt.Fprintf(e.Out, "making the demo yard in %s\n", *dir)
				d, err := standin.StartDemo(ctx, standin.DemoOptions{Dir: *dir, Items: *items, Listen: *storage, Rate: *rate,
					Log: log, NoClips: !*clips, Alone: *alone, Room: *room})
				if err != nil {
					return err
				}
				defer func() { err = errors.Join(err, d.Close()) }()
				here := []*standin.Phone{&d.Phone}
				if *alone {
					here = append(here, &d.Computer)
				}
				o := service.Options{Dir: filepath.Join(*dir, "data"), Log: log, Standin: simulated{d}, Inboxes: &d.Desk}
				for _, p := range here {
					o.Members = append(o.Members, service.Local{Name: p.Name, Root: p.Root, Sensor: &p.Sensor})
				}
				o.Beside = func(ctx context.Context, s *service.Service) error {
					g, ctx := errgroup.WithContext(ctx)
					g.Go(func() error { return d.Live(ctx) })
					g.Go(func() error { return away(ctx, s, d, log) })
					if !*alone {
						g.Go(func() error { return handsOver(ctx, s, *dir, *phone, e.Out) })
					}
					return g.Wait()
				}
				return serve(ctx, e, *listen, o, func(s *service.Service, _ string) error {
					// The devices that joined find it where they found it before.
					if kept, _ := s.Household.HomeAddress(); !*alone && (kept == "" || !strings.HasSuffix(*home, ":0")) {
						if err := s.Household.SetHomeNetwork(*home); err != nil {
							return err
						}
					}
					tellDemo(e.Out, d, *dir, *alone)
					if s.Book.Plan() != nil {
						return nil // the one that is in force stays
					}
					_, err := s.Book.Apply(caller.AtTheMachine(ctx), "the demo's plan", d.Plan, 0)
					return err
				})
			}
		},
	}
}

// simulated shows the demo's devices to the service.
type simulated struct{ d *standin.Demo }

func (p simulated) Phones() []wire.Phone {
	var list []wire.Phone
	for _, one := range p.d.All() {
		now, day := one.Now()
		card := ""
		if in, able := one.CardIn(); able {
			card = map[bool]string{true: "in", false: "out"}[in]
		}
		list = append(list, wire.Phone{Device: one.Name, Conditions: now, Day: day, Card: card})
	}
	return list
}

func (p simulated) one(device string) (*standin.Phone, error) {
	var names []string
	for _, one := range p.d.All() {
		if one.Name == device {
			return one, nil
		}
		names = append(names, one.Name)
	}
	return nil, fmt.Errorf("there is no simulated device %q; there is %s", device, strings.Join(names, ", "))
}

func (p simulated) SetPhone(_ context.Context, device string, c gate.Conditions) error {
	phone, err := p.one(device)
	if err == nil {
		err = phone.Set(c)
	}
	return err
}

func (p simulated) FollowDay(_ context.Context, device string) error {
	phone, err := p.one(device)
	if err == nil {
		at, _ := p.d.Clock.Now()
		err = phone.Follow(at)
	}
	return err
}

func (p simulated) PutCard(_ context.Context, device string, in bool) error {
	phone, err := p.one(device)
	if err == nil {
		err = phone.PutCard(in)
	}
	return err
}

func (p simulated) TakePicture(_ context.Context, device string) error {
	phone, err := p.one(device)
	if err != nil {
		return err
	}
	return phone.TakePicture(time.Now())
}

func (p simulated) Clock() wire.StandinClock {
	at, speed := p.d.Clock.Now()
	return wire.StandinClock{Minute: int(at / time.Minute), Speed: speed}
}

func (p simulated) SetClock(_ context.Context, c wire.StandinClock) error {
	p.d.Clock.Set(time.Duration(c.Minute)*time.Minute, c.Speed)
	return nil
}

// tellDemo tells what the demo in dir consists of, and where its folders are.
func tellDemo(w io.Writer, d *standin.Demo, dir string, alone bool) {
	fmt.Fprintf(w, "storage   %s, simulated, keeps files in %s\n", d.Storage.URL(), d.Storage.Dir)
	if !alone {
		fmt.Fprintf(w, "storage   tool-shed (%s) and sail-loft (%s), in %s\n", d.Others.Shed.Kind, d.Others.Bucket.Kind, dir)
	}
	fmt.Fprintf(w, "phone     %s, simulated, gallery in %s\n", d.Phone.Name, filepath.Join(d.Phone.Root, "DCIM"))
	for _, p := range d.Away {
		if p == &d.Computer {
			continue
		}
		fmt.Fprintf(w, "elsewhere %s, a process of its own, pictures in %s\n", p.Name, filepath.Join(p.Root, p.Camera))
	}
	fmt.Fprintf(w, "computer  %s, copy a picture into %s\n", d.Computer.Name,
		filepath.Join(d.Computer.Root, "Restoration"))
}

// away runs the demo's devices that are elsewhere, each as a process of its own that
// joined by a code.
func away(ctx context.Context, s *service.Service, d *standin.Demo, log *slog.Logger) error {
	if len(d.Away) == 0 {
		return nil
	}
	for ctx.Err() == nil && !s.Household.HomeNetwork().Listening {
		if problem := s.Household.HomeNetwork().Problem; problem != "" {
			return fmt.Errorf("the demo's devices cannot join: %s", problem)
		}
		time.Sleep(20 * time.Millisecond)
	}
	if err := s.Household.SetHomeNetwork(s.Household.HomeNetwork().Address); err != nil { // of a port that the system chose
		return err
	}
	program, err := os.Executable()
	if err != nil {
		return fmt.Errorf("finding this program: %w", err)
	}
	var g errgroup.Group
	for _, p := range d.Away {
		data := filepath.Join(p.Root, "data")
		if joined, err := service.ReadJoined(data); err != nil || joined == nil {
			code, cerr := s.Household.NewCode(p.Name, time.Now())
			if err = errors.Join(err, cerr); err != nil {
				return err
			}
			c, err := link.ParseCode(code.Code)
			if err != nil {
				return err
			}
			if _, err := service.JoinHome(ctx, data, c, api.Version); err != nil {
				return fmt.Errorf("%s cannot join: %w", p.Name, err)
			}
		}
		run := exec.CommandContext(ctx, program, "device", "run", "-data", data, "-root", p.Root, "-listen", "127.0.0.1:0",
			"-conditions", p.File, "-attached")
		run.Cancel = func() error { return run.Process.Signal(os.Interrupt) }
		run.WaitDelay = 8 * time.Second
		if _, err := run.StdinPipe(); err != nil { // it ends with it, however this process ends
			return fmt.Errorf("starting %s: %w", p.Name, err)
		}
		if err := run.Start(); err != nil {
			return fmt.Errorf("starting %s: %w", p.Name, err)
		}
		g.Go(func() error {
			if err := run.Wait(); err != nil && ctx.Err() == nil {
				log.Error("a device of the demo ended", "device", p.Name, "err", err)
			}
			return nil
		})
	}
	return g.Wait()
}
