package api

import (
	"cmp"
	"context"
	"net/http"
	"slices"
	"time"

	"ironbell/internal/api/wire"
	"ironbell/internal/core/forecast"
	"ironbell/internal/core/zone"
	"ironbell/internal/service"

	"github.com/danielgtaylor/huma/v2"
)

// Bounds of what is told of a change.
const (
	whatIfRings   = 200 // when nothing is said
	whatIfJobs    = 200
	whatIfClashes = 50
)

func (s *server) whatIf(ctx context.Context, in *struct{ Body wire.WhatIfRequest },
) (*struct{ Body wire.WhatIf }, error) {
	who, _ := person(ctx)
	asked := in.Body
	z, err := zone.Load(cmp.Or(asked.Zone, who.Zone))
	if err != nil {
		return nil, huma.NewError(http.StatusUnprocessableEntity, err.Error())
	}
	change, err := wouldBe(asked)
	if err != nil {
		return nil, err
	}
	var from, to time.Time
	for at, told := range map[*time.Time]*time.Time{&from: asked.From, &to: asked.To} {
		if told != nil {
			if err := known(*told); err != nil {
				return nil, err
			}
			*at = *told
		}
	}
	limit := whatIfRings
	if asked.Limit != nil {
		limit = *asked.Limit
	}
	atOnce, err := s.atOnce(ctx)
	if err != nil {
		return nil, s.problem(err)
	}
	w, err := s.Service.Foresight.WhatIf(ctx, who, change, from, to, atOnce, limit)
	if err != nil {
		return nil, s.problem(err)
	}
	return &struct{ Body wire.WhatIf }{whatIfOf(w, z, atOnce)}, nil
}

func wouldBe(asked wire.WhatIfRequest) (service.WouldBe, error) {
	c := service.WouldBe{Limits: asked.Limits, Lift: asked.Lift}
	if j := asked.Job; j != nil {
		c.Job = &service.JobWouldBe{Name: j.Name, Owner: j.Owner, On: j.On, Definition: j.Definition}
	}
	if k := asked.Calendar; k != nil {
		c.Calendar = &service.CalendarWouldBe{Name: k.Name, Definition: k.Definition}
	}
	if asked.Freeze != nil {
		f, err := freezeOf(*asked.Freeze)
		if err != nil {
			return c, err
		}
		c.Freeze = &f
	}
	return c, nil
}

func whatIfOf(w service.WhatIf, z *time.Location, atOnce int) wire.WhatIf {
	out := wire.WhatIf{
		From: w.From.In(z), To: w.To.In(z), Zone: z.String(), Says: w.Says(), Counts: wire.RingCounts(w.Counts),
		Before: loadOf(w.Before, z), After: loadOf(w.After, z), Rings: []wire.RingChange{}, Jobs: []wire.JobRings{},
		Clashes: []wire.ClashChange{}, AtOnce: atOnce, Notes: append([]string{}, w.Notes...),
	}
	tell := func(c forecast.Change) wire.RingChange {
		return wire.RingChange{
			What: string(c.What), Late: c.Late, OnTime: c.OnTime,
			Was: ringOf(c.Was, w.Was), Will: ringOf(c.Will, w.Will),
		}
	}
	for _, c := range w.Changes {
		out.Rings = append(out.Rings, tell(c))
	}
	// The pairs of a job stand together.
	for _, first := range w.Firsts {
		each, c := w.Each[first.Pair], tell(first)
		j := cmp.Or(c.Will, c.Was)
		n := len(out.Jobs) - 1
		if n < 0 || out.Jobs[n].Job != j.Job {
			out.Jobs = append(out.Jobs,
				wire.JobRings{JobID: j.JobID, Job: j.Job, Counts: wire.RingCounts(each), First: c})
			continue
		}
		sum := forecast.Counts(out.Jobs[n].Counts)
		sum.Add(each)
		out.Jobs[n].Counts = wire.RingCounts(sum)
		if at(c).Before(at(out.Jobs[n].First)) {
			out.Jobs[n].First = c
		}
	}
	slices.SortStableFunc(out.Jobs, func(a, b wire.JobRings) int { return at(a.First).Compare(at(b.First)) })
	out.Jobs = out.Jobs[:min(len(out.Jobs), whatIfJobs)]
	for _, c := range w.Clashes[:min(len(w.Clashes), whatIfClashes)] {
		side := w.Will
		if c.Ends {
			side = w.Was
		}
		one := wire.ClashChange{Clash: clashOf(c.Clash, side.Jobs, z), What: "new", Was: c.Was}
		switch {
		case c.Ends:
			one.What = "ends"
		case c.Was > c.Most:
			one.What = "milder"
		case c.Was > 0:
			one.What = "worse"
		}
		out.Clashes = append(out.Clashes, one)
	}
	return out
}

// at is the time of the first of its two rings that rings.
func at(c wire.RingChange) time.Time {
	switch {
	case c.Was == nil || c.Was.Passed:
		return c.Will.At
	case c.Will == nil || c.Will.Passed || c.Was.At.Before(c.Will.At):
		return c.Was.At
	}
	return c.Will.At
}

func ringOf(r *forecast.Ring, f service.Foreseen) *wire.Coming {
	if r == nil {
		return nil
	}
	c := coming(*r, f.Entries[r.Entry], f.Jobs[r.Entry])
	return &c
}

func loadOf(s forecast.Summary, z *time.Location) wire.Load {
	out := wire.Load{
		Rings: s.Total, Joined: s.Joined, Waiting: s.Waiting, Stuck: s.Stuck, Late: s.Late, Clashes: len(s.Clashes),
	}
	for _, h := range s.Hours {
		if h.Rings > out.Most {
			at := h.At.In(z)
			out.Hour, out.Most = &at, h.Rings
		}
		out.Working = max(out.Working, h.Working)
	}
	return out
}
