package probe

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"

	"yardtide/core/media"
)

// This file writes what the keeper said into XMP sidecars (ISO 16684-1), as a description of its own: whatever else stands
// in one stays as it is, byte by byte.

// nsKeeper is the namespace of what the keeper said.
const nsKeeper = "urn:yardtide:keeper:1"

// ErrNoSidecar tells that a file is no sidecar that can be written into.
var ErrNoSidecar = errors.New("what lies beside it is no XMP sidecar that can be written into")

// emptySidecar is one that says nothing.
const emptySidecar = `<?xml version="1.0" encoding="UTF-8"?>
<x:xmpmeta xmlns:x="adobe:ns:meta/">
 <rdf:RDF xmlns:rdf="` + nsRDF + `">
 </rdf:RDF>
</x:xmpmeta>
`

// WithKeeper is a sidecar with what the keeper said in the place of what was said before; nil begins a new one.
func WithKeeper(sidecar []byte, k media.Keeper) ([]byte, error) {
	if len(bytes.TrimSpace(sidecar)) == 0 {
		sidecar = []byte(emptySidecar)
	}
	spans, end, err := described(sidecar)
	if err != nil {
		return nil, err
	}
	var out []byte
	from := 0
	for _, s := range spans {
		out = append(out, sidecar[from:s[0]]...)
		from = s[1]
	}
	out = append(out, sidecar[from:end]...)
	if !k.Nothing() {
		text, err := describe(k)
		if err != nil {
			return nil, err
		}
		out = append(out, text...)
	}
	return append(out, sidecar[end:]...), nil
}

// described finds the descriptions of ours in a sidecar, and where the last description may stand: before the end of the
// RDF element.
func described(sidecar []byte) (spans [][2]int, end int, err error) {
	d := xml.NewDecoder(bytes.NewReader(sidecar))
	depth, rdf, ours, began := 0, 0, 0, 0
	for {
		at := int(d.InputOffset())
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, 0, fmt.Errorf("%w: %w", ErrNoSidecar, err)
		}
		switch t := token.(type) {
		case xml.StartElement:
			depth++
			switch {
			case depth > mostDepth:
				return nil, 0, ErrNoSidecar
			case t.Name.Space == nsRDF && t.Name.Local == "RDF" && rdf == 0:
				rdf = depth
			case rdf > 0 && depth == rdf+1 && isOurs(t):
				ours, began = depth, at
			}
		case xml.EndElement:
			switch depth {
			case ours:
				spans, ours = append(spans, [2]int{began, int(d.InputOffset())}), 0
			case rdf:
				if end == 0 {
					end = at
				}
			}
			depth--
		}
	}
	if end == 0 || !strings.Contains(string(sidecar[end:min(len(sidecar), end+2)]), "</") {
		return nil, 0, ErrNoSidecar // an RDF element that is empty, or none
	}
	return spans, end, nil
}

// isOurs tells a description that we wrote: it alone declares our namespace.
func isOurs(t xml.StartElement) bool {
	if t.Name.Space != nsRDF || t.Name.Local != "Description" {
		return false
	}
	for _, a := range t.Attr {
		if a.Name.Space == "xmlns" && a.Value == nsKeeper {
			return true
		}
	}
	return false
}

// describe writes what the keeper said.
func describe(k media.Keeper) ([]byte, error) {
	var b bytes.Buffer
	escaped := func(s string) error {
		if err := xml.EscapeText(&b, []byte(s)); err != nil {
			return fmt.Errorf("writing what the keeper said: %w", err)
		}
		return nil
	}
	b.WriteString(`<rdf:Description xmlns:rdf="` + nsRDF + `" xmlns:keeper="` + nsKeeper + `" rdf:about=""`)
	if k.Marked {
		b.WriteString(` keeper:Marked="True"`)
	}
	if k.Hidden {
		b.WriteString(` keeper:Hidden="True"`)
	}
	b.WriteString(">")
	if k.Note != "" {
		b.WriteString("<keeper:Note>")
		if err := escaped(k.Note); err != nil {
			return nil, err
		}
		b.WriteString("</keeper:Note>")
	}
	if len(k.Sets) > 0 {
		b.WriteString("<keeper:Sets><rdf:Bag>")
		for _, s := range k.Sets {
			b.WriteString("<rdf:li>")
			if err := escaped(s); err != nil {
				return nil, err
			}
			b.WriteString("</rdf:li>")
		}
		b.WriteString("</rdf:Bag></keeper:Sets>")
	}
	b.WriteString("</rdf:Description>\n")
	return b.Bytes(), nil
}
