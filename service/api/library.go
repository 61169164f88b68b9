package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yardtide/core/media"
	"yardtide/core/search"
	"yardtide/service/library"
	"yardtide/wire/bringwire"
	"yardtide/wire/findwire"
)

// This file finds items among all that are known.

// FindQuery is a question as a call has it. (What huma reads of another struct in one must have an exported name.)
type FindQuery struct {
	Text    string `query:"text" maxLength:"200" doc:"Each of its words is in a name, caption, keyword, note, folder or camera"`
	Device  string `query:"device"`
	Person  string `query:"person" doc:"Whose devices"`
	Folder  string `query:"folder" doc:"On the device, from the source on, and what lies below it"`
	Kind    string `query:"kind" enum:"photo,raw,graphic,video,audio,document,other"`
	Camera  string `query:"camera"`
	At      string `query:"at" doc:"A destination at which all of it is safe"`
	Set     string `query:"set" doc:"A set of the keeper's"`
	Rated   int    `query:"rated" minimum:"0" maximum:"5" doc:"So many stars, or more"`
	From    string `query:"from" format:"date" doc:"The first day, by the clock where it was taken"`
	To      string `query:"to" format:"date" doc:"The last day"`
	Where   string `query:"where" enum:"here,gone" doc:"Still on its device, or not; both when left out"`
	Marked  bool   `query:"marked"`
	Hidden  bool   `query:"hidden" doc:"Only what is hidden; it is left out otherwise"`
	Spot    string `query:"spot" doc:"Taken in a part of the map: south, west, north, east in degrees, parted by commas"`
	spotted *search.Box
	from    time.Time
	to      time.Time
}

// Resolve implements huma.Resolver.
func (q *FindQuery) Resolve(huma.Context) (wrong []error) {
	for _, day := range []struct {
		name, text string
		is         *time.Time
	}{{"from", q.From, &q.from}, {"to", q.To, &q.to}} {
		if day.text == "" {
			continue
		}
		is, err := time.Parse(time.DateOnly, day.text)
		if err != nil || is.Year() < 1 {
			wrong = append(wrong, &huma.ErrorDetail{Location: "query." + day.name, Message: "is no day; write it as 2026-05-31", Value: day.text})
		}
		*day.is = is
	}
	if !q.to.IsZero() {
		q.to = q.to.AddDate(0, 0, 1)
	}
	if q.Spot != "" {
		box, err := search.ParseBox(q.Spot)
		if err != nil {
			wrong = append(wrong, &huma.ErrorDetail{Location: "query.spot", Message: err.Error(), Value: q.Spot})
		}
		q.spotted = &box
	}
	return wrong
}

func (q *FindQuery) question() library.Question {
	return library.Question{Device: q.Device, Person: q.Person, Query: search.Query{Text: q.Text, Folder: q.Folder, Kind: media.Kind(q.Kind),
		Camera: q.Camera, At: q.At, Set: q.Set, Rated: q.Rated, From: q.from, To: q.to, Where: search.Where(q.Where), Marked: q.Marked,
		Hidden: q.Hidden, Box: q.spotted}}
}

func (s *Server) libraryRoutes() {
	call(s, "library", http.MethodGet, "/library", "How much a question finds among all that is known, month by month",
		func(ctx context.Context, in *FindQuery) (*answer[findwire.Found], error) {
			f, err := s.service.Library.Find(ctx, in.question())
			return &answer[findwire.Found]{f}, err
		})
	call(s, "library-items", http.MethodGet, "/library/items", "A part of what a question finds, the newest first",
		func(ctx context.Context, in *struct {
			FindQuery
			Offset int `query:"offset" minimum:"0" doc:"How many stand before"`
			Limit  int `query:"limit" minimum:"1" maximum:"500" default:"100"`
		}) (*answer[findwire.FoundList], error) {
			list, err := s.service.Library.List(ctx, in.question(), in.Offset, in.Limit)
			return &answer[findwire.FoundList]{list}, err
		})
	call(s, "say-of-items", http.MethodPost, "/library/say", "Mark items, hide them from the library, note something, put them into a set or take them out",
		func(ctx context.Context, in *request[findwire.SayAsked]) (*answer[findwire.Said], error) {
			if len(in.Body.Items) == 0 && len(in.Body.Question) == 0 {
				return nil, huma.Error422UnprocessableEntity("Nothing is named: say items, or a question that finds some.")
			}
			refs, err := s.asked(ctx, bringwire.BringAsked{Items: in.Body.Items, Question: in.Body.Question})
			if err != nil {
				return nil, err
			}
			n, err := s.service.Library.Say(ctx, refs, media.KeeperChange{Marked: in.Body.Marked, Hidden: in.Body.Hidden, Note: in.Body.Note,
				Put: in.Body.Put, Take: in.Body.Take})
			return &answer[findwire.Said]{findwire.Said{N: n}}, err
		})
	call(s, "library-spots", http.MethodGet, "/library/spots", "Where what a question finds was taken, in cells of a part of the map",
		func(ctx context.Context, in *struct {
			FindQuery
			Map  string `query:"map" doc:"The part of the map, as spot; that which has all of it when left out"`
			Side int    `query:"side" minimum:"1" maximum:"64" default:"24" doc:"So many cells a side"`
		}) (*answer[findwire.Spots], error) {
			var part *search.Box
			if in.Map != "" {
				box, err := search.ParseBox(in.Map)
				if err != nil {
					return nil, huma.Error422UnprocessableEntity("This is no part of a map.",
						&huma.ErrorDetail{Location: "query.map", Message: err.Error(), Value: in.Map})
				}
				part = &box
			}
			spots, err := s.service.Library.Spots(ctx, in.question(), part, in.Side)
			return &answer[findwire.Spots]{spots}, err
		})
}
