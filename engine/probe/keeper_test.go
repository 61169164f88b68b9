package probe_test

import (
	"encoding/xml"
	"errors"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yardtide/core/media"
	"yardtide/engine/probe"
)

const others = `<?xpacket begin="" id="W5M0MpCehiHzreSzNTczkc9d"?>
<x:xmpmeta xmlns:x="adobe:ns:meta/"><r:RDF xmlns:r="http://www.w3.org/1999/02/22-rdf-syntax-ns#">
  <r:Description r:about="" xmlns:dc="http://purl.org/dc/elements/1.1/" xmlns:p="http://other.example/1/" p:Crop="0.1,0.9">
   <dc:description><r:Alt><r:li xml:lang="x-default">The keel &amp; the mast</r:li></r:Alt></dc:description>
   <dc:subject><r:Bag><r:li>larch</r:li></r:Bag></dc:subject>
  </r:Description><!-- kept -->
 </r:RDF></x:xmpmeta>
<?xpacket end="w"?>`

func TestWhatTheKeeperSaysStandsBesideWhatOthersWrote(t *testing.T) {
	t.Parallel()
	said := media.Keeper{Marked: true, Note: "For Ines <& Tom>\nboth", Sets: []string{"Launch day", "ünï"}}
	text, err := probe.WithKeeper([]byte(others), said)
	require.NoError(t, err)
	m := probe.XMP(text)
	assert.Equal(t, said, m.Keeper)
	assert.Equal(t, "The keel & the mast", m.Caption)
	assert.Equal(t, []string{"larch"}, m.Keywords)
	// Something else is said, and then nothing: what others wrote is what it was, byte by byte.
	again, err := probe.WithKeeper(text, media.Keeper{Hidden: true})
	require.NoError(t, err)
	assert.Equal(t, media.Keeper{Hidden: true}, probe.XMP(again).Keeper)
	nothing, err := probe.WithKeeper(again, media.Keeper{})
	require.NoError(t, err)
	assert.Equal(t, strings.ReplaceAll(others, "\n", ""), strings.ReplaceAll(string(nothing), "\n", ""))
}

func TestWhatIsNoSidecarIsNotWrittenInto(t *testing.T) {
	t.Parallel()
	for name, text := range map[string]string{
		"no XML":          "a keel",
		"cut":             others[:400],
		"no RDF":          `<x:xmpmeta xmlns:x="adobe:ns:meta/"></x:xmpmeta>`,
		"an empty RDF":    `<r:RDF xmlns:r="http://www.w3.org/1999/02/22-rdf-syntax-ns#"/>`,
		"another RDF":     `<r:RDF xmlns:r="http://other.example/"></r:RDF>`,
		"deep":            strings.Repeat("<a>", 100) + strings.Repeat("</a>", 100),
		"an unknown name": `<r:RDF xmlns:r="http://www.w3.org/1999/02/22-rdf-syntax-ns#">&boat;</r:RDF>`,
		"JPEG":            "\xff\xd8\xff\xe1",
	} {
		_, err := probe.WithKeeper([]byte(text), media.Keeper{Marked: true})
		assert.ErrorIs(t, err, probe.ErrNoSidecar, name)
	}
}

// Whatever is said is read again as it was said, and the sidecar is well formed.
func TestWhateverTheKeeperSaysIsReadAgain(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		said := media.Keeper{Marked: rapid.Bool().Draw(t, "marked"), Hidden: rapid.Bool().Draw(t, "hidden"), Note: rapid.String().Draw(t, "note"),
			Sets: rapid.SliceOfN(rapid.String(), 0, 60).Draw(t, "sets")}.Sound()
		before := []byte(nil)
		if rapid.Bool().Draw(t, "others") {
			before = []byte(others)
		}
		text, err := probe.WithKeeper(before, said)
		require.NoError(t, err)
		assert.Equal(t, said, probe.XMP(text).Keeper)
		for d := xml.NewDecoder(strings.NewReader(string(text))); ; {
			if _, err := d.Token(); errors.Is(err, io.EOF) {
				break
			} else {
				require.NoError(t, err)
			}
		}
	})
}
