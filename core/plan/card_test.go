package plan_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardtide/core/media"
	"yardtide/core/onvolume"
	"yardtide/core/plan"
	"yardtide/core/plantext"
)

func withDevice(fields string) (*plan.Plan, error) {
	return plantext.Parse("p", []byte("format: 2\nyard: T\ntimezone: UTC\ndestinations:\n  shed: {kind: folder, path: /s}\n"+
		"devices:\n  desk: {sources: [{folder: in, rule: rest}], "+fields+"}\nrules:\n  rest: {take: [photo], to: [shed], lanes: "+
		"[{over: wifi}]}\n  cards: {take: [raw], to: [shed], lanes: [{over: wifi}]}\n"))
}

func TestACardHasItsOwnAnswerOrEveryCards(t *testing.T) {
	p, err := withDevice("cards: {any: {leave: true}, AAAA-1111: {rule: cards}, BBBB-2222: {copy-to: in/Cards}, CCCC-3333: {name: Tom's}}")
	require.NoError(t, err)
	d := p.Devices["desk"]
	for id, want := range map[string]plan.Card{"AAAA-1111": {Rules: []string{"cards"}}, "BBBB-2222": {CopyTo: "in/Cards"},
		"CCCC-3333": {Leave: true}, "DDDD-4444": {Leave: true}} {
		is, asked := d.Card(id)
		assert.Equal(t, want, is, id)
		assert.False(t, asked, id)
	}
	_, asked := plan.Device{}.Card("AAAA-1111")
	assert.True(t, asked, "without an answer it is asked for")
	own := plan.Device{Sources: []plan.Source{{Folder: "volume:AAAA-1111/DCIM"}}}
	_, asked = own.Card("AAAA-1111")
	assert.False(t, asked, "the keeper made a source of it")

	// One that is taken up is a source of the device, and of its part of the plan.
	on := p.On("desk")
	require.Len(t, on.Devices["desk"].Sources, 2)
	assert.Equal(t, onvolume.Folder("AAAA-1111"), on.Devices["desk"].Sources[1].Folder)
	assert.Len(t, on.On("desk").Devices["desk"].Sources, 2, "once")
	assert.Len(t, p.Devices["desk"].Sources, 1, "the plan itself says what it said")
	raw := plan.File{Path: "DCIM/a.dng", Kind: media.Raw}
	assert.True(t, p.Wants("desk", "volume:AAAA-1111", raw, "shed", plan.Main))
	assert.False(t, p.Wants("desk", "volume:BBBB-2222", raw, "shed", plan.Main))
	assert.True(t, p.Follows("desk", "cards"))
	assert.Contains(t, p.PartOf("desk").Rules, "cards")
	assert.Contains(t, p.PartOf("desk").On("desk").Rules, "cards")
}

func TestAnswersThatCannotBeMeantAreRefused(t *testing.T) {
	for fields, says := range map[string]string{
		"cards: {A: {leave: true, rule: rest}}":   "more than one answer",
		"cards: {A: {copy-to: x, rule: rest}}":    "more than one answer",
		"cards: {A: {}}":                          "without an answer",
		"cards: {A: {rule: none}}":                `no rule "none"`,
		"cards: {A: {copy-to: ../out}}":           "leaves the device's root",
		"cards: {A: leave}":                       "is text",
		"cards: [A]":                              "is a list",
		"new-folders: none":                       `no rule "none"`,
		"new-folders: [rest]":                     "new-folders is a list",
		"cards: {A: {leave: true, colour: blue}}": "colour",
	} {
		_, err := withDevice(fields)
		assert.ErrorContains(t, err, says, fields)
	}
	for _, fields := range []string{"new-folders: ask", "new-folders: leave", "new-folders: rest", "cards: {any: {copy-to: /abs/in}}"} {
		_, err := withDevice(fields)
		assert.NoError(t, err, fields)
	}
}
