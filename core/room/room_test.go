package room_test

import (
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"yardtide/core/media"
	"yardtide/core/room"
)

var day = time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)

// item is one that may go, taken so many days ago.
func item(id int64, days int) room.Candidate {
	return room.Candidate{ID: id, Source: "DCIM", Dir: "Camera", Kind: media.Photo, TakenMS: day.AddDate(0, 0, -days).UnixMilli(),
		Bytes: 1000, Safe: true, Places: 2, AsShot: true}
}

func with(it room.Candidate, change func(*room.Candidate)) room.Candidate {
	change(&it)
	return it
}

func TestWhatStaysAndWhy(t *testing.T) {
	t.Parallel()
	disks := []room.Disk{{Free: 500, Sources: []string{"DCIM", "card"}}}
	card := func(source string) bool { return source == "card" }
	for name, c := range map[string]struct {
		want room.Want
		is   room.Candidate
		why  room.Reason
	}{
		"all of it may go":               {is: item(1, 5)},
		"a copy is not proven":           {is: with(item(1, 5), func(i *room.Candidate) { i.Safe = false }), why: room.NotSafe},
		"at one place":                   {is: with(item(1, 5), func(i *room.Candidate) { i.Places = 1 }), why: room.FewPlaces},
		"at one place, as asked":         {want: room.Want{Places: 1}, is: with(item(1, 5), func(i *room.Candidate) { i.Places = 1 })},
		"at two places of three":         {want: room.Want{Places: 3}, is: item(1, 5), why: room.FewPlaces},
		"nowhere as shot":                {is: with(item(1, 5), func(i *room.Candidate) { i.AsShot = false }), why: room.NotAsShot},
		"on a card":                      {is: with(item(1, 5), func(i *room.Candidate) { i.Source = "card" }), why: room.ItsFolder},
		"taken lately":                   {want: room.Want{Before: day.AddDate(0, 0, -90)}, is: item(1, 89), why: room.TooNew},
		"taken long ago":                 {want: room.Want{Before: day.AddDate(0, 0, -90)}, is: item(1, 91)},
		"another kind":                   {want: room.Want{Kinds: []media.Kind{media.Video}}, is: item(1, 5), why: room.NotWanted},
		"no larger":                      {want: room.Want{Larger: 1000}, is: item(1, 5), why: room.NotWanted},
		"in the folder":                  {want: room.Want{Folder: "DCIM/Camera/"}, is: item(1, 5)},
		"above the folder":               {want: room.Want{Folder: "DCIM"}, is: item(1, 5)},
		"beside one that begins like it": {want: room.Want{Folder: "DCIM/Cam"}, is: item(1, 5), why: room.NotWanted},
		"brought back lately":            {is: with(item(1, 5), func(i *room.Candidate) { i.BackMS = day.UnixMilli() }), why: room.BackAgain},
		"brought back long ago":          {is: with(item(1, 5), func(i *room.Candidate) { i.BackMS = day.AddDate(0, 0, -40).UnixMilli() })},
		"enough is free":                 {want: room.Want{Free: 400}, is: item(1, 5), why: room.Enough},
		"on a disk that nobody knows": {want: room.Want{Free: 400}, is: with(item(1, 5), func(i *room.Candidate) { i.Source = "elsewhere" }),
			why: room.Enough},
	} {
		got := room.Choose(c.want, []room.Candidate{c.is}, disks, card, day.AddDate(0, 0, -30))
		if c.why == "" {
			assert.Len(t, got.Goes, 1, name)
			continue
		}
		assert.Empty(t, got.Goes, name)
		assert.Equal(t, map[room.Reason]room.Amount{c.why: {N: 1, Bytes: 1000}}, got.Stays, name)
	}
}

func TestTheOldestGoUntilEnoughIsFree(t *testing.T) {
	t.Parallel()
	items := []room.Candidate{item(1, 1), item(2, 40), item(3, 20), item(4, 30), with(item(5, 90), func(i *room.Candidate) { i.Source = "Other" })}
	disks := []room.Disk{{Free: 500, Held: 700, Sources: []string{"DCIM"}}, {Free: 9000, Sources: []string{"Other"}}}
	got := room.Choose(room.Want{Free: 3000}, items, disks, nil, time.Time{})
	var ids []int64
	for _, it := range got.Goes {
		ids = append(ids, it.ID)
	}
	assert.Equal(t, []int64{2, 4}, ids, "1,800 bytes are needed of the first disk, as 700 get free by themselves")
	assert.Equal(t, room.Amount{N: 2, Bytes: 2000}, got.Sum)
	assert.Zero(t, got.Need)
	got = room.Choose(room.Want{Free: 9000}, items, disks, nil, time.Time{})
	assert.Len(t, got.Goes, 4)
	assert.EqualValues(t, 9000-500-700-4000, got.Need)
	got = room.Choose(room.Want{Free: 9000}, items, []room.Disk{{Free: -1, Sources: []string{"DCIM"}}}, nil, time.Time{})
	assert.Empty(t, got.Goes, "nobody knows how much is free")
}

// TestNothingIsChosenThatIsNotProven chooses among random items by random wants.
func TestNothingIsChosenThatIsNotProven(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(1, 2))
	for range 500 {
		var items []room.Candidate
		for id := range int64(r.IntN(40)) {
			items = append(items, room.Candidate{ID: id, Source: []string{"DCIM", "card"}[r.IntN(2)], Bytes: r.Int64N(5000), TakenMS: r.Int64N(1e12),
				Safe: r.IntN(2) == 0, Places: r.IntN(4), AsShot: r.IntN(2) == 0, Kind: media.Photo})
		}
		w := room.Want{Free: r.Int64N(3) * 4000, Places: r.IntN(4), Before: time.UnixMilli(r.Int64N(1e12))}
		got := room.Choose(w, items, []room.Disk{{Free: 100, Sources: []string{"DCIM", "card"}}}, func(s string) bool { return s == "card" }, time.Time{})
		n := int64(len(got.Goes))
		for _, s := range got.Stays {
			n += s.N
		}
		assert.EqualValues(t, len(items), n, "each goes or stays")
		for _, it := range got.Goes {
			assert.True(t, it.Safe && it.AsShot && it.Source == "DCIM" && it.Places >= w.At() && it.TakenMS < w.Before.UnixMilli(), "%+v", it)
		}
		assert.True(t, slices.IsSortedFunc(got.Goes, func(a, b room.Candidate) int { return int(a.TakenMS - b.TakenMS) }))
	}
}

func TestWhetherCopiesAreEnough(t *testing.T) {
	t.Parallel()
	at := func(file int64, destination, place string) room.Standing {
		return room.Standing{File: file, Destination: destination, Place: place, Safe: true, AsShot: true}
	}
	smaller := func(c room.Standing) room.Standing { c.AsShot = false; return c }
	both := []room.Standing{at(1, "shed", "a"), at(1, "locker", "b")}
	for name, c := range map[string]struct {
		files  []int64
		copies []room.Standing
		asked  []string
		why    room.Reason
	}{
		"two places":                        {copies: both, asked: []string{"shed", "locker"}},
		"no file":                           {files: []int64{}, why: room.NotSafe},
		"no copy":                           {why: room.FewPlaces},
		"two names of one place":            {copies: []room.Standing{at(1, "shed", "a"), at(1, "locker", "a")}, why: room.FewPlaces},
		"a place that nobody knows":         {copies: []room.Standing{at(1, "shed", "a"), at(1, "locker", "")}, why: room.FewPlaces},
		"the plan asks for one more":        {copies: both, asked: []string{"shed", "locker", "loft"}, why: room.NotSafe},
		"one that is owed":                  {copies: append(slices.Clone(both), room.Standing{File: 1, Destination: "loft", Place: "c"}), why: room.NotSafe},
		"smaller at both":                   {copies: []room.Standing{smaller(both[0]), smaller(both[1])}, why: room.NotAsShot},
		"smaller at one":                    {copies: []room.Standing{smaller(both[0]), both[1]}},
		"a part at one place":               {files: []int64{1, 2}, copies: append(slices.Clone(both), at(2, "shed", "a")), why: room.FewPlaces},
		"a part at two":                     {files: []int64{1, 2}, copies: append(slices.Clone(both), at(2, "shed", "a"), at(2, "locker", "b"))},
		"a part that is as shot at neither": {files: []int64{1, 2}, copies: append(slices.Clone(both), smaller(at(2, "shed", "a")), smaller(at(2, "locker", "b"))), why: room.NotAsShot},
	} {
		if c.files == nil {
			c.files = []int64{1}
		}
		assert.Equal(t, c.why, room.Judge(c.files, c.copies, func(int64) []string { return c.asked }, 2), name)
	}
}
