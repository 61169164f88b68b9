package service

import (
	"net/url"
	"path"
	"path/filepath"
	"strings"

	"yardtide/core/plan"
	"yardtide/wire"
)

// Lies tells where the copies of an item lie, as a person writes it in other programs.
func (s *Service) Lies(it wire.Item) []wire.Lies {
	p, list := s.Book.PlanOrEmpty(), []wire.Lies{}
	for _, c := range it.Copies {
		d, known := p.Destinations[c.Destination]
		if !known || c.Remote == "" || c.State != "safe" {
			continue
		}
		l := wire.Lies{Destination: c.Destination, Shelf: c.Shelf, Part: c.Part, At: addressOf(d, c.Remote), Reduced: c.Reduced, Bytes: c.Bytes}
		if d.Kind == plan.WebDAV {
			l.Link = l.At
		}
		list = append(list, l)
	}
	return list
}

// addressOf is where a file lies at a destination: a path of this computer, or an address.
func addressOf(d plan.Destination, remote string) string {
	steps := strings.Split(remote, "/")
	for i := range steps {
		steps[i] = url.PathEscape(steps[i])
	}
	below := strings.Join(steps, "/")
	switch d.Kind {
	case plan.Folder:
		return filepath.Join(d.Path, filepath.FromSlash(remote))
	case plan.WebDAV:
		return strings.TrimSuffix(d.URL, "/") + "/" + below
	case plan.SFTP:
		return "sftp://" + d.Address + "/" + strings.TrimPrefix(path.Join((&url.URL{Path: d.Path}).EscapedPath(), below), "/")
	case plan.S3:
		return "s3://" + d.Bucket + "/" + strings.TrimPrefix(path.Join(d.Path, remote), "/")
	}
	return remote
}
