package webdav

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const multistatus = `<?xml version="1.0"?><D:multistatus xmlns:D="DAV:"><D:response><D:href>/dav/a%20b.jpg</D:href><D:propstat><D:prop><D:getcontentlength>12</D:getcontentlength><D:resourcetype/></D:prop><D:status>HTTP/1.1 200 OK</D:status></D:propstat></D:response><D:response><D:href>/dav/c/</D:href><D:propstat><D:prop><D:resourcetype><D:collection/></D:resourcetype></D:prop><D:status>HTTP/1.1 200 OK</D:status></D:propstat></D:response></D:multistatus>`

func TestAnAnswerIsReadWithinBounds(t *testing.T) {
	members, err := readMembers(strings.NewReader(multistatus))
	require.NoError(t, err)
	require.Len(t, members, 2)
	assert.Equal(t, "12", members[0].properties().Length)
	assert.NotNil(t, members[1].properties().Type.Collection)
	for name, text := range map[string]string{
		"deep":             `<multistatus xmlns="DAV:">` + strings.Repeat("<a>", 100_000),
		"deep in a member": `<multistatus xmlns="DAV:"><response>` + strings.Repeat("<a>", 100_000),
		"many":             `<multistatus xmlns="DAV:">` + strings.Repeat("<response/>", maxMembers+1) + `</multistatus>`,
		"entities":         `<!DOCTYPE a [<!ENTITY x "xxxxxxxxxx"><!ENTITY y "&x;&x;&x;&x;">]><multistatus xmlns="DAV:"><response><href>&y;</href></response></multistatus>`,
		"something else":   `<html><body>Sign in</body></html>`,
		"no namespace":     `<multistatus><response/></multistatus>`,
		"cut":              multistatus[:len(multistatus)/2],
		"nothing":          "",
	} {
		_, err := readMembers(strings.NewReader(text))
		assert.Error(t, err, name)
	}
}

func FuzzMembers(f *testing.F) {
	for _, text := range []string{multistatus, "", "<", `<multistatus xmlns="DAV:"/>`,
		`<a xmlns:b="DAV:"><b:multistatus/></a>`, "<!DOCTYPE a>", "<?xml version='1.0' encoding='latin1'?>"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		members, err := readMembers(strings.NewReader(text))
		if err != nil {
			require.Nil(t, members)
			return
		}
		for _, m := range members {
			m.properties()
		}
	})
}
