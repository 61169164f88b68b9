package device

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"yardtide/core/onvolume"
	"yardtide/core/plan"
	"yardtide/engine/destination"
	"yardtide/engine/scan"
	"yardtide/engine/tell"
	"yardtide/wire"
)

// This file follows the sources of a plan: each is scanned by itself, and what is wrong with one
// keeps none of the others.

// sources are the folders that a device takes up, and what is known of them.
type sources struct {
	d *Device

	mu      sync.Mutex
	known   map[string]*scanned // by the plan's name of the folder
	applied *plan.Plan          // what the records are in line with
}

// scanned is what is known of one scan.
type scanned struct {
	problems []scan.Problem
	at       time.Time
	disk     uint64 // on which it lies, 0 where that is not known
	folder   *asked
	away     bool // it lies on a volume that is not here
}

// inLine tells whether the records are in line with a plan: nothing begins before.
func (ss *sources) inLine(p *plan.Plan) bool {
	ss.mu.Lock()
	defer ss.mu.Unlock()
	return ss.applied == p
}

// walking tells whether a source was not walked to its end yet.
func (ss *sources) walking(folder string) bool {
	ss.mu.Lock()
	defer ss.mu.Unlock()
	s := ss.known[folder]
	return s == nil || s.at.IsZero()
}

// looking tells whether a source of a plan was not walked to its end yet: what is in it may be to go.
// A source that is known not to answer is not waited for.
func (ss *sources) looking(p *plan.Plan) bool {
	ss.mu.Lock()
	defer ss.mu.Unlock()
	for _, s := range ss.known {
		if s.at.IsZero() && len(s.problems) == 0 && !s.away {
			return true
		}
	}
	return ss.applied != p
}

// told is what is known of the source of a folder.
func (ss *sources) told(folder string) tell.Source {
	one := tell.Source{Path: ss.d.Folder(folder)}
	ss.mu.Lock()
	defer ss.mu.Unlock()
	if s := ss.known[folder]; s != nil {
		one.Scanned, one.Away = s.at, s.away
		for _, problem := range s.problems {
			one.Problems = append(one.Problems, wire.Problem(problem))
		}
	}
	return one
}

// away tells whether a source is not there: its folder went, or its volume, or does not answer, or it lies on another disk
// than when it was scanned.
func (ss *sources) away(folder string) bool {
	if id, _, comes := onvolume.Of(folder); comes {
		if root := ss.d.cards.root(id); root == "" || !ss.d.cards.isAt(id, root) {
			return true
		}
	}
	ss.mu.Lock()
	s := ss.known[folder]
	ss.mu.Unlock()
	if s == nil {
		return true
	}
	info, answers := s.folder.now()
	if !answers || info == nil || !info.IsDir() {
		return true
	}
	ss.mu.Lock()
	defer ss.mu.Unlock()
	return s.disk != 0 && scan.Disk(info) != s.disk
}

// walked notes that a source was walked to its end.
func (ss *sources) walked(folder string, problems []scan.Problem) {
	ss.mu.Lock()
	if s := ss.known[folder]; s != nil {
		s.problems, s.at = problems, time.Now()
	}
	ss.mu.Unlock()
	ss.d.marks.found()
	ss.d.changed()
}

// follow brings the records in line with each plan and scans its sources. A scan that hangs
// keeps its own source only: the next plan is followed without it.
func (ss *sources) follow(ctx context.Context) error {
	running := map[string]chan struct{}{} // scans, by the plan's name of the folder; closed when they end
	stop := func() {}
	defer func() {
		stop()
		if left := ss.ended(running); len(left) > 0 {
			ss.d.Log.Error("a scan does not end; it is left behind", "device", ss.d.Name, "folders", len(left))
		}
	}()
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-ss.d.planned:
		}
		stop()
		running = ss.ended(running)
		p := ss.d.currentPlan()
		for {
			err := ss.d.Records.Catalogue.Apply(ctx, p, ss.d.Name, time.Now())
			if err == nil {
				break
			}
			if !ss.d.mending.rest(ctx, "the plan could not be applied", err) {
				return nil
			}
		}
		scanCtx, cancel := context.WithCancel(ctx)
		stop = cancel
		known := map[string]*scanned{}
		options, all := ss.scanOptions(p), p.Devices[ss.d.Name].Sources
		for _, s := range all {
			known[s.Folder] = &scanned{folder: &asked{folder: ss.d.Folder(s.Folder)}}
		}
		ss.mu.Lock()
		ss.known, ss.applied = known, p
		ss.mu.Unlock()
		ss.d.originals.anew()
		ss.d.changed() // what was found before may go
		resolved := ss.resolve(all)
		for i, s := range all {
			if other, doubled := doubled(resolved, i); doubled {
				ss.setProblems(s.Folder, scan.Problem{Path: ss.d.Folder(s.Folder),
					Says: fmt.Sprintf("This folder and the source %s are one, or lie in one another: it is taken up there.",
						all[other].Folder), Todo: "Take one of them out of the plan."})
				continue
			}
			before, done := running[s.Folder], make(chan struct{})
			running[s.Folder] = done
			go func() {
				defer close(done)
				ss.scanSource(scanCtx, p, s, options, before)
			}()
		}
	}
}

// ended waits a moment for scans that were stopped, and returns those that go on.
func (ss *sources) ended(running map[string]chan struct{}) map[string]chan struct{} {
	left := map[string]chan struct{}{}
	limit := time.NewTimer(ss.d.Grace)
	defer limit.Stop()
	over := false
	for folder, done := range running {
		if !over {
			select {
			case <-done:
			case <-limit.C:
				over = true
			}
		}
		select {
		case <-done:
		default:
			left[folder] = done
		}
	}
	return left
}

// silentAfter is how long a source has to answer before it is told that it does not.
const silentAfter = 10 * time.Second

// scanSource scans a source until the context ends, once an earlier scan of the same folder has
// ended. While the folder does not answer, the page says so.
func (ss *sources) scanSource(ctx context.Context, p *plan.Plan, s plan.Source, options scan.Options,
	before <-chan struct{}) {
	if before != nil {
		silent := ss.silent(ctx, s.Folder)
		select {
		case <-before:
			silent.Stop()
		case <-ctx.Done():
			<-before // whoever follows this scan waits for that one, too
			return
		}
	}
	id, _, comes := onvolume.Of(s.Folder)
	if !comes {
		ss.scanHere(ctx, p, s, options)
		return
	}
	for ctx.Err() == nil {
		ss.setAway(s.Folder, ss.d.cards.root(id) == "")
		gone, here := ss.d.cards.wait(ctx, id)
		if !here {
			return
		}
		ss.setAway(s.Folder, false)
		if err := ss.d.Records.Queue.Back(ctx, s.Folder); err != nil && ctx.Err() == nil {
			ss.d.Log.Warn("what waited for a volume does not go on at once", "device", ss.d.Name, "source", s.Folder, "err", err)
		}
		ss.d.changed()
		root := ss.d.cards.root(id)
		options.Here = func() bool { return ss.d.cards.isAt(id, root) }
		while, stop := whileHere(ctx, gone)
		ss.scanHere(while, p, s, options)
		stop()
	}
}

// silent has the page say that a folder does not answer, unless it is stopped before.
func (ss *sources) silent(ctx context.Context, folder string) *time.Timer {
	return time.AfterFunc(ss.d.Wait(silentAfter), func() {
		if ctx.Err() == nil {
			ss.setProblems(folder, scan.Problem{Path: ss.d.Folder(folder), Says: "The folder does not answer.",
				Todo: "Look at its disk or network share. What was found before is kept; it goes on by itself."})
		}
	})
}

// setAway notes whether a source lies on a volume that is not here.
func (ss *sources) setAway(folder string, away bool) {
	ss.mu.Lock()
	if s := ss.known[folder]; s != nil {
		if s.away = away; away {
			s.problems = nil
		}
	}
	ss.mu.Unlock()
	ss.d.Changed()
}

// scanHere scans a source that is here until the context ends.
func (ss *sources) scanHere(ctx context.Context, p *plan.Plan, s plan.Source, options scan.Options) {
	path := ss.d.Folder(s.Folder)
	silent := ss.silent(ctx, s.Folder)
	defer silent.Stop()
	info, err := os.Stat(path) // a folder that hangs keeps this call; what is wrong with it the scan tells
	if err == nil {
		ss.setDisk(s.Folder, scan.Disk(info))
	}
	if !silent.Stop() {
		ss.setProblems(s.Folder)
	}
	b := book{ss.d, s, p, p.Chooser(s, p.Zone(ss.d.Name)), p.Zone(ss.d.Name)}
	options.Hidden = s.Hidden
	for {
		err := scan.Run(ctx, path, b, options)
		if err == nil || ctx.Err() != nil {
			return
		}
		if !ss.d.mending.rest(ctx, "a scan failed", err) {
			return
		}
	}
}

// setDisk notes the disk that a source lies on.
func (ss *sources) setDisk(folder string, disk uint64) {
	ss.mu.Lock()
	defer ss.mu.Unlock()
	if s := ss.known[folder]; s != nil {
		s.disk = disk
	}
}

// setProblems notes what is wrong with a source of the plan that is followed.
func (ss *sources) setProblems(folder string, problems ...scan.Problem) {
	ss.mu.Lock()
	if s := ss.known[folder]; s != nil {
		s.problems = problems
	}
	ss.mu.Unlock()
	ss.d.Changed()
}

// scanOptions are those of every scan under a plan: places that copies go to are
// not taken up.
func (ss *sources) scanOptions(p *plan.Plan) scan.Options {
	o := ss.d.Scan
	o.Marker = destination.MarkerName
	var places []*asked
	for _, dest := range p.Destinations {
		if dest.Kind == plan.Folder {
			places = append(places, &asked{folder: dest.Path})
		}
	}
	o.Place = func(info fs.FileInfo) bool {
		return slices.ContainsFunc(places, func(a *asked) bool {
			there, _ := a.now()
			return there != nil && os.SameFile(info, there)
		})
	}
	return o
}

// resolved is where a source lies once every link is followed; info is nil where there is
// nothing, or it does not answer.
type resolved struct {
	path string
	info fs.FileInfo
}

// resolve follows the links of sources, each by itself: one that hangs keeps none of the others.
func (ss *sources) resolve(sources []plan.Source) []resolved {
	list := make([]resolved, len(sources))
	var wait sync.WaitGroup
	for i, s := range sources {
		path := ss.d.Folder(s.Folder)
		wait.Go(func() {
			is, ok := answered(answerTime, func() resolved {
				own := path
				if followed, err := filepath.EvalSymlinks(path); err == nil {
					own = followed
				}
				info, err := os.Stat(own)
				if err != nil {
					info = nil
				}
				return resolved{filepath.ToSlash(own), info}
			})
			if !ok {
				is = resolved{path: filepath.ToSlash(path)}
			}
			list[i] = is
		})
	}
	wait.Wait()
	return list
}

// doubled tells which of the sources before one is the same folder, or lies with it in one
// another, however they are spelled and linked.
func doubled(all []resolved, i int) (other int, is bool) {
	own := all[i]
	for k, there := range all[:i] {
		if plan.Inside(own.path, there.path) || plan.Inside(there.path, own.path) || own.info != nil && there.info != nil &&
			os.SameFile(own.info, there.info) {
			return k, true
		}
	}
	return 0, false
}
