package installation

import (
	"context"
	"fmt"
	"strings"
	"time"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
	"ironbell/internal/core/phrase"
	"ironbell/internal/store/db"
)

// clockSlack is how late a due time may stand undecided before somebody is needed.
const clockSlack = 5 * time.Minute

// Room on the disk of the store of artifacts below which somebody is needed: a share of
// it, and bytes.
const (
	leastShare = 50 // one part in so many
	leastFree  = 256 << 20
)

// State tells what an operator must know. Its error is that the database does not
// answer.
func (k *Keeper) State(ctx context.Context) (job.ServiceState, error) {
	s := job.ServiceState{Lines: []job.StateLine{}}
	add := func(l job.StateLine) {
		s.Lines = append(s.Lines, l)
		s.Needs = s.Needs || l.Needs
	}
	is, err := k.Is(ctx)
	if err != nil {
		return s, err
	}
	kept, err := k.store.Standing(ctx)
	if err != nil {
		return s, err
	}
	switch {
	case is.Copy != nil:
		s.Silent = true
		add(job.StateLine{
			What: "installation", Text: "It stands still and sends nothing: " + is.Why + ".",
			Advice: "An administrator says what it is: ironbell copy.", Since: is.Copy, Needs: true,
		})
	case is.Test != nil:
		add(job.StateLine{What: "installation", Text: "This is a copy for tests.", Names: is.Test.Named})
	}
	if f := kept.Frozen; f != nil && is.Copy == nil {
		s.Silent = true
		add(job.StateLine{
			What: "freeze", Text: fmt.Sprintf("Everything is frozen, by %s.", f.By), Advice: f.Reason, Since: &f.From,
		})
	}
	if late := kept.ClockLate; late > clockSlack && !s.Silent {
		s.Silent = true
		add(job.StateLine{
			What:   "clock",
			Text:   fmt.Sprintf("A due time has stood undecided for %s: nothing rings.", late.Round(time.Second)),
			Advice: "See the logs of the nodes.", N: int(late / time.Second), Needs: true,
		})
	}
	if kept.Unreached > 0 {
		add(job.StateLine{
			What: "alerts", Text: fmt.Sprintf("%d open, of which nobody can be told.", kept.Unreached),
			Advice: "Sign in and look at Today.", N: kept.Unreached, Needs: true,
		})
	}
	for _, turn := range []struct{ name, what, advice string }{
		{db.BounceSetting, "mailbox", "Check the settings of the mailbox for bounces, and that its server runs."},
		{db.BeatSetting, "sign of life", "Check its address in the settings."},
	} {
		last, err := k.store.LastTurn(ctx, turn.name)
		if err != nil {
			return s, err
		}
		if why, failed := strings.CutPrefix(last.Word, "failed: "); failed {
			add(job.StateLine{
				What: turn.what, Text: phrase.Upper(why) + ".", Advice: turn.advice, Since: last.TakenAt,
				Needs: turn.name == db.BounceSetting,
			})
		}
	}
	switch free, all, err := k.files.Room(); {
	case err != nil:
		f := fault.Of(err)
		add(job.StateLine{What: "disk", Text: phrase.Upper(f.Error()) + ".", Advice: f.Advice, Needs: true})
	case free < leastFree || free < all/leastShare:
		add(job.StateLine{
			What: "disk", Text: fmt.Sprintf("The store of artifacts has %d MB free of %d MB.", free>>20, all>>20),
			Advice: "Make room, or keep files for a shorter time.", N: int(free >> 20), Needs: true,
		})
	}
	for _, r := range []struct {
		what, one string
		names     []string
		n         int
	}{
		{"sources", "source", kept.Sources, kept.SourcesN},
		{"destinations", "destination", kept.Destinations, kept.DestinationsN},
	} {
		switch r.n {
		case 0:
		case 1:
			add(job.StateLine{
				What: r.what, Text: fmt.Sprintf("1 %s rests; what needs it waits.", r.one), N: 1, Names: r.names,
			})
		default:
			add(job.StateLine{
				What: r.what, Text: fmt.Sprintf("%d %s rest; what needs them waits.", r.n, r.what), N: r.n,
				Names: r.names,
			})
		}
	}
	if kept.StoreRests {
		add(job.StateLine{
			What: "disk", Text: "The store of artifacts does not work: everything that makes files waits.",
			Advice: "See its alert.", Needs: true,
		})
	}
	if own, theirs := k.store.Schema(), kept.Schema; theirs > own {
		add(job.StateLine{
			What:   "schema",
			Text:   fmt.Sprintf("The database has the schema %d of a newer version; this node knows %d.", theirs, own),
			Advice: "Bring this node to the same version.",
		})
	}
	if kept.Nodes > 0 && kept.Finishing == kept.Nodes {
		s.Silent = true
		add(job.StateLine{
			What: "work", Text: "Every node finishes what it has and takes no more: nothing begins.",
			Advice: "Let one work again: ironbell nodes -work NODE.", N: kept.Finishing, Needs: true,
		})
	}
	add(job.StateLine{
		What: "nodes",
		Text: fmt.Sprintf("%d %s.", kept.Nodes,
			map[bool]string{true: "node lives", false: "nodes live"}[kept.Nodes == 1]), N: kept.Nodes,
	})
	return s, nil
}
