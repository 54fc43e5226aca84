package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"unicode/utf8"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/fault"
	"ironbell/internal/core/phrase"
	"ironbell/internal/recordfile"
	"ironbell/internal/store/db"

	"github.com/danielgtaylor/huma/v2"
)

const recordType = "application/yaml" // RFC 9512

// records registers every record as a file.
func (s *server) records(a huma.API) {
	tags := subject("records")
	huma.Register(a,
		tags.get("list-records", "/api/records", "List the records that stand in files, by kind and name"), s.listRecords)
	huma.Register(a,
		tags.get("record-schema", "/api/records/schema", "Show the JSON Schema of a record in a file",
			says("Draft 2020-12. An editor that knows it completes fields and marks what is wrong.")), s.recordSchema)
	huma.Register(a,
		tags.get("show-record", "/api/record", "Show a record as a file", refuses(404, 422),
			says("YAML with a head: the number of the form, and kind and name of the record. What is as it would be "+
				"anyway is left out; passwords are never shown.")), s.showRecord)
	huma.Register(a,
		tags.put("save-record", "/api/record", "Save a record from a file", refuses(403, 404, 422),
			upTo(recordfile.MaxBytes), says("The head says which. Each thing that is wrong has its line and column as "+
				"location. Nothing is saved when the file says what is so already. A record whose file has a revision is "+
				"saved only while it has that one.")), s.saveRecord)
}

func (s *server) listRecords(ctx context.Context, in *struct {
	Kind string `query:"kind" maxLength:"40" doc:"of this kind alone"`
},
) (*struct{ Body []wire.RecordName }, error) {
	out := []wire.RecordName{}
	for _, k := range s.recordForm().kinds {
		switch {
		case in.Kind != "" && in.Kind != k.kind:
		case k.only != "":
			body, err := k.show(ctx, k.only)
			if err != nil {
				return nil, s.problem(err)
			}
			// One that nobody has set may say too little to be a file.
			if _, schema := s.recordForm().kind(k.kind, k.only); len(s.recordForm().misfits(schema, body)) == 0 {
				out = append(out, wire.RecordName{Kind: k.kind, Name: k.only})
			}
		default:
			names, err := k.names(ctx)
			if err != nil {
				return nil, s.problem(err)
			}
			for _, name := range names {
				out = append(out, wire.RecordName{Kind: k.kind, Name: name})
			}
		}
	}
	if len(out) == 0 {
		if kinds, _ := s.recordForm().words(); in.Kind != "" && !slices.Contains(kinds, in.Kind) {
			return nil, huma.Error422UnprocessableEntity(unknownKind(in.Kind, s.recordForm()))
		}
	}
	return &struct{ Body []wire.RecordName }{out}, nil
}

func unknownKind(kind string, r *recordSchemas) string {
	kinds, _ := r.words()
	return fmt.Sprintf("There is no kind of record %q; there are %s.", kind, phrase.Few(kinds))
}

func (s *server) recordSchema(context.Context, *struct{}) (*rawAnswer, error) {
	text, err := s.recordForm().document()
	if err != nil {
		return nil, s.problem(err)
	}
	return &rawAnswer{Type: "application/schema+json", Body: text}, nil
}

// rawAnswer is an answer that is no JSON of the API's own.
type rawAnswer struct {
	Type string `header:"Content-Type"`
	ETag string `header:"ETag"`
	Body []byte
}

func (s *server) showRecord(ctx context.Context, in *struct {
	Kind     string `query:"kind" required:"true" maxLength:"40" doc:"such as job"`
	Name     string `query:"name" required:"true" maxLength:"500" doc:"of an identity that of its source, a slash, and its own"`
	Revision bool   `query:"revision" doc:"with the revision in its head, so that it is saved only over this one"`
},
) (*rawAnswer, error) {
	k, _ := s.recordForm().kind(in.Kind, in.Name)
	if k == nil {
		return nil, huma.Error422UnprocessableEntity(s.noKind(in.Kind, in.Name))
	}
	// The revision first, so that it is never newer than what is shown.
	kind, key := revisionOf(in.Kind, in.Name)
	revision, err := s.Store.Revision(ctx, kind, key)
	if err != nil {
		return nil, s.problem(err)
	}
	f := recordfile.File{Kind: in.Kind, Name: in.Name}
	if f.Body, err = k.show(ctx, in.Name); err != nil {
		return nil, s.problem(err)
	}
	if in.Revision {
		f.Revision = &revision
	}
	text, err := recordfile.Write(f)
	if err != nil {
		return nil, s.problem(err)
	}
	return &rawAnswer{Type: recordType + "; charset=utf-8", ETag: etag(revision), Body: text}, nil
}

// noKind says that there is no such kind, or no setting of the name.
func (s *server) noKind(kind, name string) string {
	kinds, settings := s.recordForm().words()
	for _, k := range kinds {
		if k == kind {
			return fmt.Sprintf("There is no setting %q; there are %s.", name, phrase.Few(settings))
		}
	}
	return unknownKind(kind, s.recordForm())
}

func (s *server) saveRecord(ctx context.Context, in *struct {
	Try     bool   `query:"try" doc:"save nothing, and tell what would be refused or would change"`
	RawBody []byte `contentType:"application/yaml"`
},
) (*struct{ Body wire.RecordSaved }, error) {
	f, err := recordfile.Read(in.RawBody)
	if err != nil {
		return nil, s.recordProblem(err)
	}
	k, schema := s.recordForm().kind(f.Kind, f.Name)
	if k == nil {
		return nil, s.recordProblem(f.Misfit([]recordfile.Wrong{{Sentence: s.noKind(f.Kind, f.Name)}}))
	}
	if wrong := s.recordForm().misfits(schema, f.Body); len(wrong) > 0 {
		return nil, s.recordProblem(f.Misfit(wrong))
	}
	if err := s.stillCalled(ctx, f); err != nil {
		return nil, err
	}
	now, err := k.plain(f.Body)
	if err != nil { // a length of time that is too long, and the like
		return nil, s.recordProblem(f.Misfit([]recordfile.Wrong{{Sentence: plainly(err)}}))
	}
	out := wire.RecordSaved{
		RecordName: wire.RecordName{Kind: f.Kind, Name: f.Name}, What: "changed", Saved: !in.Try,
		Changes: []wire.FieldChange{},
	}
	kind, key := revisionOf(f.Kind, f.Name)
	revision, err := s.Store.Revision(ctx, kind, key)
	if err != nil {
		return nil, s.problem(err)
	}
	switch was, err := k.show(ctx, f.Name); {
	case isNotFound(err):
		out.What = "new"
	case err != nil:
		return nil, s.problem(err)
	case string(was) == string(now):
		out.What, out.Saved = "unchanged", false
	default:
		if out.Changes, err = changesOf(was, now); err != nil {
			return nil, s.problem(err)
		}
	}
	expects := db.Precondition{Kind: kind, Revisions: []int64{revision}}
	if f.Revision != nil {
		expects.Revisions[0] = *f.Revision
	}
	if out.What == "unchanged" && (f.Revision == nil || *f.Revision == revision) {
		return &struct{ Body wire.RecordSaved }{out}, nil
	}
	if in.Try {
		ctx = db.Trying(ctx)
	}
	who, _ := person(ctx)
	if err := k.save(db.Expecting(ctx, expects), who, f.Name, f.Body, in.Try); err != nil {
		var invalid *fault.Invalid
		var missing *db.NotFound
		if errors.As(err, &missing) { // such as the source of an identity
			return nil, s.recordProblem(f.Misfit([]recordfile.Wrong{{Sentence: missing.Error()}}))
		}
		if errors.As(err, &invalid) {
			return nil, s.recordProblem(f.Misfit(wrongOf(invalid)))
		}
		return nil, s.problem(err)
	}
	return &struct{ Body wire.RecordSaved }{out}, nil
}

// stillCalled refuses a file that names its record as it was called before: whoever reads it
// later would look for two records where there is one.
func (s *server) stillCalled(ctx context.Context, f recordfile.File) error {
	kind, name := f.Kind, f.Name
	switch kind {
	case "wishes":
		kind = "person"
	case "identity":
		kind = "source"
		name, _ = identityName(name)
	}
	now, err := s.Store.Called(ctx, kind, name)
	if err != nil {
		return s.problem(err)
	}
	if strings.EqualFold(now, name) {
		return nil
	}
	return s.recordProblem(f.Misfit([]recordfile.Wrong{{
		Sentence: fmt.Sprintf("the %s %q is called %q now; write that name, or free the old one for another record", kind,
			name, now),
	}}))
}

// plainly is what is wrong with a value that cannot be read.
func plainly(err error) string {
	var bad *json.UnmarshalTypeError
	if errors.As(err, &bad) {
		return fmt.Sprintf("%s: a %s stands here, which does not fit", bad.Field, bad.Value)
	}
	return err.Error()
}

func wrongOf(invalid *fault.Invalid) []recordfile.Wrong {
	out := make([]recordfile.Wrong, len(invalid.Wrong))
	for i, w := range invalid.Wrong {
		out[i] = recordfile.Wrong{Where: w.Where, Sentence: w.Sentence}
	}
	return out
}

// recordProblem tells what is wrong with a file, each fault at its line and column.
func (s *server) recordProblem(err error) error {
	var invalid *recordfile.Invalid
	if !errors.As(err, &invalid) {
		return s.problem(err)
	}
	details := make([]error, 0, len(invalid.Wrong))
	for _, w := range invalid.Wrong {
		d := &huma.ErrorDetail{Message: w.Sentence}
		if w.Where != "" {
			d.Message = w.Where + ": " + w.Sentence
		}
		if w.Line > 0 {
			d.Location = fmt.Sprintf("%d:%d", w.Line, w.Column)
		}
		details = append(details, d)
	}
	text := "The file was not accepted; nothing was changed."
	if invalid.More > 0 {
		text += fmt.Sprintf(" These are the first %d of %d things that are wrong.", len(invalid.Wrong),
			len(invalid.Wrong)+invalid.More)
	}
	return huma.NewError(http.StatusUnprocessableEntity, text, details...)
}

// revisionOf gives kind and name by which a record's revision is counted.
func revisionOf(kind, name string) (string, string) {
	switch kind {
	case "wishes":
		return "person", name
	case "identity":
		source, own := identityName(name)
		return kind, source + ": " + own
	}
	return kind, name
}

const (
	mostChanges = 200
	longestText = 300 // characters of a value that is told
)

func changesOf(was, now []byte) ([]wire.FieldChange, error) {
	changes, err := recordfile.Changes(was, now)
	if err != nil {
		return nil, err
	}
	out := make([]wire.FieldChange, 0, min(len(changes), mostChanges))
	for _, c := range changes[:min(len(changes), mostChanges)] {
		change := wire.FieldChange{Where: c.Where, Was: bounded(c.Was), Now: bounded(c.Now)}
		if c.Where == "password" {
			change.Was, change.Now = "", "another one"
		}
		out = append(out, change)
	}
	return out, nil
}

func bounded(text string) string {
	if utf8.RuneCountInString(text) <= longestText {
		return text
	}
	return string([]rune(text)[:longestText]) + "…"
}
