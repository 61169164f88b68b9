package plan_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yardtide/core/media"
	"yardtide/core/plan"
	"yardtide/core/plantext"
)

const reduces = `format: 2
yard: Slip
timezone: UTC
renditions:
  family: {long-edge: 2560}   # ours
  small: {megapixels: 2, quality: 70}
destinations: {shed: {kind: folder, path: /media/shed}}
devices: {phone: {sources: [{folder: DCIM, rule: everyday}]}}
rules:
  everyday:
    take: [photo, graphic, video]
    send: {photo: family}
    to: [shed]
    lanes: [{over: wifi}]
`

const perPlace = `yard: Y
timezone: UTC
renditions:
  family: {long-edge: 2560}
  clips: {height: 720}
  both: {long-edge: 3000, format: both}
destinations:
  shed: {kind: folder, path: /media/shed}
  locker: {kind: folder, path: /media/locker}
  attic: {kind: folder, path: /media/attic}
devices: {phone: {sources: [{folder: DCIM, rule: everyday}]}}
rules:
  everyday:
    take: [photo, graphic, video, raw]
    send: {photo: both, video: clips}
    to: [shed as shot, locker as family, attic]
    lanes: [{over: wifi}]
`

// Each destination has its own form: as shot, a rendition where it says something of the kind, or what send
// says. A JPEG beside is put only where the form asks for one.
func TestAPlaceHasAFormOfItsOwn(t *testing.T) {
	p, err := plantext.Parse("p", []byte(perPlace))
	require.NoError(t, err)
	form := func(kind media.Kind, to string) string {
		r, reduced := p.Form("everyday", kind, to, plan.Main)
		if !reduced {
			return plan.AsShot
		}
		return r.String()
	}
	family, both, clips := "at most 2560 px, quality 82", "at most 3000 px, HEIC as shot and as JPEG, quality 82",
		"clips at most 720 lines, quality 82"
	for kind, want := range map[media.Kind][3]string{
		media.Photo: {plan.AsShot, family, both}, media.Graphic: {plan.AsShot, family, plan.AsShot},
		media.Video: {plan.AsShot, clips, clips}, media.Raw: {plan.AsShot, plan.AsShot, plan.AsShot},
	} {
		assert.Equal(t, want, [3]string{form(kind, "shed"), form(kind, "locker"), form(kind, "attic")}, kind)
	}
	for to, beside := range map[string]bool{"shed": false, "locker": false, "attic": true} {
		assert.Equal(t, beside, p.Wanted("everyday", media.Photo, to, plan.Beside), to)
	}
	assert.True(t, p.Whole("everyday", media.Photo))

	part := p.PartOf("phone")
	again, err := plantext.Parse("part", []byte(plantext.Write(part)))
	require.NoError(t, err)
	assert.Equal(t, p.Rules, again.Rules)
	assert.Equal(t, p.Renditions, again.Renditions, "all are used")

	for change, says := range map[string]string{
		"locker as family=>locker as":         `there is no destination "locker as"`,
		"locker as family=>locker as tiny":    `there is no rendition "tiny"`,
		"locker as family=>barge as family":   `there is no destination "barge"`,
		"locker as family=>shed as family":    `destination "shed" stands here twice`,
		"locker as family=>locker as as shot": `there is no rendition "as shot"`,
		"locker as family=>as family":         `there is no destination "as family"`,
	} {
		from, to, _ := strings.Cut(change, "=>")
		_, err := plantext.Parse("p", []byte(strings.Replace(perPlace, from, to, 1)))
		require.ErrorContains(t, err, says, change)
	}
	none, err := plantext.Parse("p", []byte(strings.Replace(perPlace, "shed as shot", "shed as family", 1)))
	require.NoError(t, err)
	assert.False(t, none.Whole("everyday", media.Photo))
	assert.True(t, none.Whole("everyday", media.Raw))
}

func TestRenditionsAreRead(t *testing.T) {
	p, err := plantext.Parse("p", []byte(reduces))
	require.NoError(t, err)
	r, reduced := p.Form("everyday", media.Photo, "shed", plan.Main)
	assert.True(t, reduced)
	assert.Equal(t, "at most 2560 px, quality 82", r.String())
	_, reduced = p.Form("everyday", media.Graphic, "shed", plan.Main)
	assert.False(t, reduced)
	part, err := plantext.Parse("part", []byte(plantext.Write(p.PartOf("phone"))))
	require.NoError(t, err)
	assert.Equal(t, p.Rules, part.Rules)
	assert.Equal(t, map[string]plan.Rendition{"family": r}, part.Renditions, "those that it uses")

	for change, says := range map[string]string{
		"send: {photo: family}=>send: {photo: tiny}":                    `there is no rendition "tiny"`,
		"send: {photo: family}=>send: {video: family}":                  `family says nothing of videos`,
		"send: {photo: family}=>send: {raw: family}":                    `"raw" is no kind that is reduced`,
		"send: {photo: family}=>send: {}":                               "says nothing",
		"send: {photo: family}=>send: family":                           "send is",
		"take: [photo, graphic, video]=>take: [video]":                  "says in which form photos go, and takes none",
		"family: {long-edge: 2560}=>family: {quality: 80}":              "has no limit",
		"family: {long-edge: 2560}=>family: {}":                         "has no limit",
		"family: {long-edge: 2560}=>family: {long-edge: 0}":             "long-edge is not such a number",
		"family: {long-edge: 2560}=>family: {long-edge: 99999}":         "long-edge is not such a number",
		"family: {long-edge: 2560}=>family: {long-edge: wide}":          "long-edge is not such a number",
		"family: {long-edge: 2560}=>family: {megapixels: -1}":           "megapixels is not such a number",
		"family: {long-edge: 2560}=>family: {megapixels: .nan}":         "megapixels is not such a number",
		"family: {long-edge: 2560}=>family: {long-edge: 9, format: x}":  `"x" is not a format`,
		"family: {long-edge: 2560}=>family: {long-edge: 90, colour: 1}": "colour",
		"family: {long-edge: 2560}=>family: {height: 720}":              "family says nothing of photos",
		"family: {long-edge: 2560}=>family: {long-edge: 99, fps: 0}":    "fps is not such a number",
		"family: {long-edge: 2560}=>family: {height: 9}":                "height is not such a number",
		"family: {long-edge: 2560}=>family: {height: 720, codec: vp9}":  `"vp9" is not a codec`,
		"quality: 70=>quality: 101":                                     "quality is not such a number",
		"  small:=>  as-shot:":                                          "needs no rendition",
		"  small:=>  \"a b\":":                                          "cannot be the name of a rendition",
	} {
		from, to, _ := strings.Cut(change, "=>")
		require.Contains(t, reduces, from)
		_, err := plantext.Parse("p", []byte(strings.Replace(reduces, from, to, 1)))
		require.ErrorContains(t, err, says, change)
	}
}

func TestAClipsSize(t *testing.T) {
	for _, c := range [][5]int{{1920, 1080, 720, 1280, 720}, {1080, 1920, 720, 720, 1280}, {1280, 720, 720, 1280, 720},
		{1000, 401, 200, 498, 200}, {640, 480, 0, 640, 480}, {99, 2000, 144, 99, 2000}} {
		w, h := plan.Rendition{Height: c[2]}.ClipSize(c[0], c[1])
		assert.Equal(t, [2]int{c[3], c[4]}, [2]int{w, h}, "%v", c)
	}
}

// Whatever the picture and the limits: it keeps its shape, within the limits, and what is
// within them stays as it is.
func TestARenditionsSize(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w, h := rapid.IntRange(1, 60000).Draw(t, "w"), rapid.IntRange(1, 60000).Draw(t, "h")
		r := plan.Rendition{LongEdge: rapid.SampledFrom([]int{0, 16, 640, 2560, 9000}).Draw(t, "edge"),
			Megapixels: plan.Megapixels(rapid.SampledFrom([]float64{0, 0.01, 2, 12.5, 1000}).Draw(t, "mp"))}
		tw, th := r.Size(w, h)
		require.True(t, tw >= 1 && th >= 1 && tw <= w && th <= h)
		fits := func(w, h int) bool {
			return (r.LongEdge == 0 || max(w, h) <= r.LongEdge) &&
				(r.Megapixels == 0 || float64(w)*float64(h) <= float64(r.Megapixels)*1e6)
		}
		if fits(w, h) {
			require.Equal(t, [2]int{w, h}, [2]int{tw, th})
			return
		}
		if min(tw, th) > 1 { // a line of pixels has no other shape
			require.True(t, fits(tw, th), "%dx%d", tw, th)
			require.InDelta(t, float64(w)/float64(h), float64(tw)/float64(th), 1.1*float64(w)/float64(h)/float64(min(tw, th)))
		}
		aw, ah := r.Size(tw, th)
		if min(tw, th) > 1 {
			require.Equal(t, [2]int{tw, th}, [2]int{aw, ah}, "reduced again it stays")
		}
	})
}
