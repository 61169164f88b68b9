package api

import (
	"context"
	"crypto/tls"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/gofiber/fiber/v3"
	recoverer "github.com/gofiber/fiber/v3/middleware/recover"

	"yardtide/engine/link"
	"yardtide/engine/records"
	"yardtide/service"
	"yardtide/service/handover"
	"yardtide/service/household"
)

// Home serves devices elsewhere, on a listener of its own: joining, and the link. The
// console is not there, nor any call of the keeper's. Every route but joining needs a
// device's token, and answers for that device alone.
type Home struct {
	service *service.Service
	phones  *handover.Server
	log     *slog.Logger
}

// NewHome makes what serves devices elsewhere, and phones that hand over; page holds the built page for those.
func NewHome(s *service.Service, page fs.FS, log *slog.Logger) *Home {
	return &Home{s, &handover.Server{Phones: s.Phones, Page: page, Authority: s.Household.Authority, Log: log}, log}
}

// Run listens where the keeper says, as long as the context lasts.
func (h *Home) Run(ctx context.Context) error {
	var beside sync.WaitGroup
	defer beside.Wait()
	beside.Go(func() { h.listenForPhones(ctx) })
	for ctx.Err() == nil {
		address, moved := h.service.Household.HomeAddress()
		served, cancel := context.WithCancel(ctx)
		done := make(chan struct{})
		go func() {
			defer close(done)
			if address != "" {
				h.listenAt(served, address, "devices of the home network", func(at, problem string) {
					h.service.Household.Listens(at != "", at, problem)
				}, h.serve)
			}
		}()
		select {
		case <-ctx.Done():
		case <-moved:
		}
		cancel()
		<-done
	}
	return nil
}

// Serve serves devices of this machine on a listener of its own, such as a socket, until
// the context ends.
func (h *Home) Serve(ctx context.Context, l net.Listener) error { return h.serve(ctx, l) }

// listenAgain is how long after a failure it is tried again to listen.
const listenAgain = 10 * time.Second

// listenAt serves at an address until the context ends, and tells where it listens, or why it cannot; "" is nowhere.
func (h *Home) listenAt(ctx context.Context, address, of string, tell func(at, problem string),
	serve func(context.Context, net.Listener) error) {
	for ctx.Err() == nil {
		l, err := net.Listen("tcp", address)
		if err == nil {
			tell(l.Addr().String(), "")
			h.log.Info("listening for "+of, "address", l.Addr().String())
			err = serve(ctx, l)
		}
		if ctx.Err() != nil {
			tell("", "")
			return
		}
		tell("", fmt.Sprintf("It cannot listen at %s: %v. It is tried again.", address, err))
		h.log.Error("listening for "+of+" failed", "address", address, "err", err)
		select {
		case <-ctx.Done():
		case <-time.After(listenAgain):
		}
	}
}

func (h *Home) serve(ctx context.Context, l net.Listener) error {
	app := fiber.New(fiber.Config{
		AppName: "yardtide", BodyLimit: 8 << 20, ReadTimeout: 60 * time.Second, IdleTimeout: 2 * time.Minute,
		Concurrency: mostKnownCalls + mostStrangers, ErrorHandler: problem,
		CaseSensitive: true, StrictRouting: true, DisableHeadAutoRegister: true,
	})
	app.Use(recoverer.New())
	ended := make(chan struct{})
	app.Add([]string{http.MethodPost}, "/join", h.join)
	for path, answer := range map[string]func(*fiberCall) error{"/link/changes": h.changes, "/link/wait": h.wait,
		"/link/answer": h.answer, "/link/others/:what": h.others} {
		app.Add([]string{http.MethodPost}, path, h.device(ended, answer))
	}
	// It answers itself: fiber logs what this returns for a request that it could not read.
	app.Use(func(c fiber.Ctx) error { return problem(c, refusal{http.StatusNotFound, "There is no such call."}) })
	secured := newPorch(l, &tls.Config{GetCertificate: h.certificate, MinVersion: tls.VersionTLS13, NextProtos: []string{"http/1.1"}}, h.log)
	ways := parted(secured)
	served, ofPhones := make(chan error, 1), make(chan error, 1)
	forPhones, endPhones := context.WithCancel(ctx)
	defer func() {
		endPhones()
		<-ofPhones
	}()
	go func() { ofPhones <- h.phones.Serve(forPhones, ways.phones, true) }()
	go func() { served <- app.Listener(ways.link, fiber.ListenConfig{DisableStartupMessage: true}) }()
	select {
	case err := <-served:
		close(ended)
		return errors.Join(err, closed(secured.Close()))
	case <-ctx.Done():
	}
	close(ended)
	limit, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
	defer cancel()
	err := app.ShutdownWithContext(limit)
	if errors.Is(err, context.DeadlineExceeded) {
		err = nil
	}
	err = errors.Join(err, closed(secured.Close()))
	<-served
	return err
}

// closed is an error of closing, nil for what is closed already.
func closed(err error) error {
	if errors.Is(err, net.ErrClosed) {
		return nil
	}
	return err
}

// join lets a device in that has a code.
func (h *Home) join(c fiber.Ctx) error {
	var j link.Join
	if err := json.Unmarshal(c.Body(), &j); err != nil || len(c.Body()) > 4096 {
		return refusal{http.StatusBadRequest, "This is not how a device joins."}
	}
	joined, err := h.service.Household.Join(c.Context(), j, addressOf(c), time.Now())
	var soon household.TooSoon
	if errors.As(err, &soon) {
		c.Set("Retry-After", strconv.Itoa(int(soon.Wait.Seconds())+1))
		return refusal{http.StatusTooManyRequests, sentence(err)}
	}
	if errors.Is(err, household.ErrNoJoin) {
		return refusal{http.StatusForbidden, sentence(err)}
	}
	if err != nil {
		h.log.Error("a device could not join", "err", err)
		return err
	}
	return c.JSON(joined)
}

// addressOf is the address of another machine that calls, without its port.
func addressOf(c fiber.Ctx) string {
	host, _, err := net.SplitHostPort(c.RequestCtx().RemoteAddr().String())
	if err != nil {
		return c.RequestCtx().RemoteAddr().String() // a socket of this machine
	}
	return host
}

// fiberCall is a call of a device.
type fiberCall struct {
	fiber.Ctx
	mirror *link.Mirror
	ended  context.Context // when the device is revoked, or the listener ends
}

// read reads the body.
func (c *fiberCall) read(into any) error {
	if err := json.Unmarshal(c.Body(), into); err != nil {
		return refusal{http.StatusBadRequest, "The call cannot be read; the two programs may be of versions that do not " +
			"know each other."}
	}
	return nil
}

// device lets only a device in, by its token: it is the only way to a route of the link.
func (h *Home) device(ended <-chan struct{}, answer func(*fiberCall) error) fiber.Handler {
	return func(c fiber.Ctx) error {
		text, found := strings.CutPrefix(c.Get("Authorization"), "Bearer ")
		token, err := hex.DecodeString(text)
		if !found || err != nil {
			return refusal{http.StatusUnauthorized, "The device's token is missing or wrong."}
		}
		mirror, revoked, known := h.service.Household.Caller(token)
		if !known {
			return refusal{http.StatusUnauthorized, "The service does not know this device; join with a new code."}
		}
		if at, is := c.RequestCtx().Conn().(interface{ Known() }); is {
			at.Known()
		}
		if twoLengths(c) {
			c.RequestCtx().SetConnectionClose()
			return refusal{http.StatusBadRequest, "The request tells its length in two ways (RFC 9112, 6.3)."}
		}
		ctx, cancel := context.WithCancel(context.WithoutCancel(c.Context()))
		defer cancel()
		go func() {
			select {
			case <-revoked:
			case <-ended:
			case <-ctx.Done():
			}
			cancel()
		}()
		err = answer(&fiberCall{c, mirror, ctx})
		select {
		case <-revoked:
			c.RequestCtx().SetConnectionClose()
			return refusal{http.StatusUnauthorized, "This device was revoked."}
		default:
		}
		var wrong records.Wrong
		var notYours link.NotYours
		var many link.TooMany
		switch {
		case errors.As(err, &wrong):
			err = refusal{http.StatusUnprocessableEntity, sentence(err)}
		case errors.As(err, &notYours):
			err = refusal{http.StatusForbidden, sentence(err)}
		case errors.As(err, &many):
			err = refusal{http.StatusTooManyRequests, sentence(err)}
		}
		var own refusal
		if errors.As(err, &own) {
			h.log.Warn("a device was refused", "device", mirror.DeviceName(), "path", strings.Clone(c.Path()), "status",
				own.code, "says", own.says)
		} else if err != nil {
			h.log.Error("a call of a device failed", "device", mirror.DeviceName(), "path", c.Path(), "err", err)
		}
		return err
	}
}

// changes takes in what changed.
func (h *Home) changes(c *fiberCall) error {
	b, err := link.Unpack(c.Body())
	if err != nil {
		return refusal{http.StatusBadRequest, sentence(err)}
	}
	have, err := c.mirror.Take(c.ended, b)
	if err != nil {
		return err
	}
	return c.JSON(have)
}

// waitTime is how long a device waits for news at most.
const waitTime = 25 * time.Second

// wait answers with the plan and with orders, as soon as there are some.
func (h *Home) wait(c *fiberCall) error {
	var w link.Wait
	if err := c.read(&w); err != nil {
		return err
	}
	if err := w.Check(); err != nil {
		return err
	}
	h.service.Household.Desk().Renew(c.mirror.DeviceName(), w.Boot, w.Claims)
	end := time.NewTimer(waitTime)
	defer end.Stop()
	for {
		orders, next := c.mirror.Due(w.Done)
		name := c.mirror.DeviceName()
		part, err := h.service.Household.PartFor(name, w.Plan)
		if errors.Is(err, household.ErrNoDevice) {
			if c.mirror.DeviceName() != name {
				continue // it was renamed in between
			}
			return nil // it was revoked
		}
		if err != nil {
			return err
		}
		c.mirror.Gave(part.Mark)
		news := link.News{Orders: orders}
		if part.Mark != w.Plan {
			news.Plan = &part
		}
		ended := false
		if news.Plan == nil && len(orders) == 0 {
			select {
			case <-next:
				continue
			case <-end.C:
			case <-c.ended.Done():
			}
			ended = true
		}
		news.Time = time.Now()
		if ended || news.Plan != nil || len(orders) > 0 {
			return c.JSON(news)
		}
	}
}

// answer takes in what came of an order.
func (h *Home) answer(c *fiberCall) error {
	var a link.Answer
	if err := c.read(&a); err != nil {
		return err
	}
	if err := c.mirror.Answered(a); err != nil {
		return err
	}
	return c.JSON(struct{}{})
}

// others answers what a device asks of the others.
func (h *Home) others(c *fiberCall) error {
	var q link.Asked
	if err := c.read(&q); err != nil {
		return err
	}
	c.mirror.Heard()
	name := c.mirror.DeviceName()
	t, err := h.service.Household.Desk().Answer(c.ended, name, strings.Clone(c.Params("what")), q,
		func(destination string) (int64, bool) { return h.service.Household.PartKeepsFree(name, destination) })
	var none link.UnknownCall
	if errors.As(err, &none) {
		return refusal{http.StatusNotFound, sentence(err)}
	}
	if c.ended.Err() != nil {
		return refusal{http.StatusServiceUnavailable, "The service ends."}
	}
	if err != nil {
		return err
	}
	return c.JSON(t)
}
