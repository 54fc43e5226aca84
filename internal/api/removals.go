package api

import (
	"context"
	"net/http"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/job"
	"ironbell/internal/service"

	"github.com/danielgtaylor/huma/v2"
)

// removals registers what can be done with a record whatever its kind: rename, copy, remove and
// bring back.
func (s *server) removals(a huma.API) {
	tags := subject("records")
	huma.Register(a,
		tags.post("remove-records", "/api/records/remove", "Remove records, all or none", refuses(403, 404, 422),
			says("Jobs, reports, groups, posts, destinations, calendars, sources and people. One that others need is "+
				"removed only together with them. For 30 days each can be brought back, and its name is taken.")),
		s.removeRecords)
	huma.Register(a,
		tags.get("list-removed", "/api/records/removed", "List the records that can be brought back"), s.listRemoved)
	huma.Register(a,
		tags.post("return-records", "/api/records/return", "Bring removed records back, all or none", refuses(403, 404)),
		s.returnRecords)
	huma.Register(a,
		tags.post("rename-record", "/api/record/rename", "Give a record another name", refuses(403, 404, 409, 422),
			says("Whatever speaks of it is rewritten with it. The old name still finds it, until it is freed.")),
		s.renameRecord)
	huma.Register(a,
		tags.post("copy-record", "/api/record/copy", "Make a copy of a record under another name",
			refuses(403, 404, 409, 422), answers(http.StatusNoContent),
			says("A copied job is off; a copied person has neither address nor password.")), s.copyRecord)
	huma.Register(a,
		tags.get("former-names", "/api/record/names", "List the former names by which a record is found"), s.formerNames)
	huma.Register(a,
		tags.post("free-name", "/api/record/free-name", "Free a former name of a record, so that another may take it",
			refuses(403, 404), answers(http.StatusNoContent)), s.freeName)
}

func refsOf(names []wire.RecordName) []service.Ref {
	out := make([]service.Ref, len(names))
	for i, n := range names {
		out[i] = service.Ref{Kind: n.Kind, Name: n.Name}
	}
	return out
}

func nameOf(r service.Ref) wire.RecordName { return wire.RecordName{Kind: r.Kind, Name: r.Name} }

func (s *server) removeRecords(ctx context.Context,
	in *struct{ Body wire.RecordsRequest },
) (*struct{ Body []wire.Removal }, error) {
	who, _ := person(ctx)
	all, err := s.Service.Records.Remove(ctx, who, refsOf(in.Body.Records), in.Body.Try)
	if err != nil {
		return nil, s.problem(err)
	}
	out := make([]wire.Removal, len(all))
	for i, r := range all {
		out[i] = wire.Removal{RecordName: nameOf(r.Ref), Needs: []wire.Dependent{}, Ends: r.Ends}
		for _, d := range r.Needs {
			out[i].Needs = append(out[i].Needs, wire.Dependent{RecordName: nameOf(d.Ref), How: d.How})
		}
	}
	return &struct{ Body []wire.Removal }{out}, nil
}

// removed removes one record.
func (s *server) removed(ctx context.Context, who job.Person, kind, name string) error {
	_, err := s.Service.Records.Remove(ctx, who, []service.Ref{{Kind: kind, Name: name}}, false)
	return s.orProblem(err)
}

const mostListed = 1000

func (s *server) listRemoved(ctx context.Context, _ *struct{}) (*struct{ Body []wire.RemovedRecord }, error) {
	all, err := s.Store.RemovedRecords(ctx, mostListed)
	if err != nil {
		return nil, s.problem(err)
	}
	out := make([]wire.RemovedRecord, len(all))
	for i, r := range all {
		out[i] = wire.RemovedRecord{
			RecordName: wire.RecordName{Kind: r.Kind, Name: r.Name}, At: r.At, By: r.By, Until: r.Until(),
		}
	}
	return &struct{ Body []wire.RemovedRecord }{out}, nil
}

func (s *server) returnRecords(ctx context.Context,
	in *struct{ Body wire.RecordsRequest },
) (*struct{ Body wire.Returned }, error) {
	who, _ := person(ctx)
	notes, err := s.Service.Records.Return(ctx, who, refsOf(in.Body.Records))
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body wire.Returned }{wire.Returned{Notes: notes}}, nil
}

func (s *server) renameRecord(ctx context.Context,
	in *struct{ Body wire.RenameRequest },
) (*struct{ Body wire.Renamed }, error) {
	who, _ := person(ctx)
	changed, err := s.Service.Records.Rename(ctx, who, service.Ref{Kind: in.Body.Kind, Name: in.Body.Name}, in.Body.To,
		s.Vault, in.Body.Try)
	if err != nil {
		return nil, s.problem(err)
	}
	out := wire.Renamed{Changed: make([]wire.RecordName, len(changed))}
	for i, r := range changed {
		out.Changed[i] = nameOf(r)
	}
	return &struct{ Body wire.Renamed }{out}, nil
}

func (s *server) copyRecord(ctx context.Context, in *struct{ Body wire.RenameRequest }) (*struct{}, error) {
	who, _ := person(ctx)
	return nil, s.orProblem(s.Service.Records.Copy(ctx, who, service.Ref{Kind: in.Body.Kind, Name: in.Body.Name},
		in.Body.To, s.Vault))
}

func (s *server) formerNames(ctx context.Context, in *struct {
	Kind string `query:"kind" required:"true" maxLength:"40"`
	Name string `query:"name" required:"true" maxLength:"500"`
},
) (*struct{ Body []string }, error) {
	names, err := s.Store.FormerNames(ctx, in.Kind, in.Name)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body []string }{names}, nil
}

func (s *server) freeName(ctx context.Context, in *struct{ Body wire.FormerRequest }) (*struct{}, error) {
	who, _ := person(ctx)
	return nil, s.orProblem(s.Service.Records.FreeName(ctx, who, service.Ref{Kind: in.Body.Kind, Name: in.Body.Name},
		in.Body.Former))
}
