package service

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/gate"
	"yardtide/core/media"
	"yardtide/core/queue"
	"yardtide/wire"
)

type states = map[queue.State]wire.Amount

func TestTheHeadlineCountsItemsOfAllDevices(t *testing.T) {
	mb := int64(1_000_000)
	for want, devices := range map[string][]states{
		"Nothing found yet.":                     {nil, {queue.Skipped: {N: 3}}},
		"Everything is safe: 1 picture or clip.": {{queue.Safe: {N: 1, Bytes: mb}}},
		"Everything is safe: 3 pictures and clips.": {{queue.Safe: {N: 1}},
			{queue.Safe: {N: 2}, queue.Skipped: {N: 4}}},
		"118 of 124 pictures and clips are safe. 6 wait, 23 MB.": {{queue.Safe: {N: 100},
			queue.Waiting: {N: 6, Bytes: 23 * mb}}, {queue.Safe: {N: 18}}},
		"1,200 of 1,205 pictures and clips are safe. 1 needs you, 1.0 MB. 2 are on their way, 3.0 MB. 1 waits, 2.0 MB. " +
			"1 owes a proof, 4.0 MB.": {
			{queue.Safe: {N: 1200}, queue.Stuck: {N: 1, Bytes: mb}, queue.Sending: {N: 1, Bytes: mb},
				queue.Preparing: {N: 1, Bytes: 2 * mb}, queue.Waiting: {N: 1, Bytes: 2 * mb}, queue.Proving: {N: 1,
					Bytes: 4 * mb}}},
	} {
		var list []wire.Device
		for _, s := range devices {
			list = append(list, wire.Device{States: s})
		}
		assert.Equal(t, want, headline(list))
	}
}

func TestANeedIsToldOnceAndTheGravestFirst(t *testing.T) {
	hold := func(name gate.Name, says string, you bool, n int64, to ...string) wire.HoldGroup {
		return wire.HoldGroup{Hold: gate.Hold{Gate: name, Says: says, You: you}, Amount: wire.Amount{N: n},
			Devices: []string{"phone"}, Kinds: []media.Kind{media.Photo}, Destinations: to}
	}
	problem := wire.Problem{Path: "/card", Says: "The folder is not there.", Todo: "Put the card in."}
	y := wire.Yard{
		Yard: "Slip", Absent: []string{"slate"},
		Devices: []wire.Device{
			{Name: "phone", States: states{queue.Stuck: {N: 2}},
				Sources: []wire.Source{{Path: "/card", Problems: []wire.Problem{problem, problem, problem, problem, problem}}},
				Holds: []wire.HoldGroup{hold(gate.Trouble, "locker: The storage is full.", true, 4, "locker"),
					hold(gate.Space, "loft has no room left.", true, 1, "loft"), hold(gate.Network, "Waits for Wi-Fi.", false, 3,
						"locker", "loft")}},
			{Name: "desk", Problem: "Yard Tide cannot keep its records.",
				Holds: []wire.HoldGroup{hold(gate.Network, "Waits for Wi-Fi.", false, 5, "shed")}},
		},
		Destinations: []wire.DestinationStatus{{Name: "locker", Problem: "The storage is full.", Todo: "Make room."},
			{Name: "shed", Problem: "It is another place.", Asks: true}, {Name: "attic", Problem: "The connection was lost."}},
	}
	var says, mends []string
	for _, n := range needs(y) {
		says, mends = append(says, n.Says), append(mends, n.Mends)
	}
	assert.Equal(t, []string{
		"Yard Tide cannot keep its records.", "slate is in the plan, and nothing runs it: what is new on it is not seen.",
		"/card: The folder is not there.", "/card: The folder is not there.", "/card: The folder is not there.",
		"/card: 2 more problems like these.",
		"locker: The storage is full.", "shed: It is another place.", "loft has no room left.", "2 pictures and clips " +
			"of phone are stuck.",
	}, says)
	assert.Equal(t, []string{"nothing", "nothing", "nothing", "nothing", "nothing", "nothing", "retry", "answer",
		"nothing", "retry"}, mends)

	waiting := holds(y.Devices)
	require.Len(t, waiting, 1, "one reason is one line, whatever devices and places it concerns")
	assert.EqualValues(t, 8, waiting[0].N)
	assert.Equal(t, []string{"locker", "loft", "shed"}, waiting[0].Destinations)
	assert.Equal(t, []wire.Need{{Says: "No plan.", Mends: "plan"}}, needs(wire.Yard{Problem: "No plan."}))
}
