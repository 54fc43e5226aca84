// Package chain reads the tasks of a job as a graph: what follows what, what may
// begin now, what is passed over, and how the whole ended. It decides nothing
// about time, tries or blank results; package policy does.
//
// A task follows those that its after names; one that names none follows the
// task before it in the list, so a plain list runs in its order. It may begin
// when all that it follows have ended. What happens then:
//
//   - one that failed with "stop" ends the chain: nothing new begins;
//   - one that failed with "go on" counts like one that is done;
//   - one that was passed over passes those over that follow it, unless they have
//     a condition of their own, which then decides alone.
package chain

import (
	"fmt"
	"slices"
	"strings"

	"ironbell/internal/core/fault"
	"ironbell/internal/core/job"
)

// Chain is the graph of a job's tasks. It is immutable and may be used by
// several goroutines.
type Chain struct {
	tasks  []job.Task
	place  map[string]int
	after  [][]int // what each follows directly
	before [][]int // all that come before each, in the order of the list
}

// Read checks the tasks' names and their order. What is wrong is added to v; the
// chain is of use only when nothing is.
func Read(tasks []job.Task, v *fault.Invalid) Chain {
	c := Chain{
		tasks: tasks, place: make(map[string]int, len(tasks)), after: make([][]int, len(tasks)),
		before: make([][]int, len(tasks)),
	}
	for i, t := range tasks {
		where := fmt.Sprintf("tasks[%d].name", i)
		if strings.TrimSpace(t.Name) == "" {
			v.Add(where, "the task needs a name")
			continue
		}
		if _, twice := c.place[t.Name]; twice {
			v.Add(where, "there are two tasks %q; give one another name", t.Name)
			continue
		}
		c.place[t.Name] = i
	}
	for i, t := range tasks {
		if t.After == nil {
			if i > 0 {
				c.after[i] = []int{i - 1}
			}
			continue
		}
		for n, name := range t.After {
			where := fmt.Sprintf("tasks[%d].after[%d]", i, n)
			p, ok := c.place[name]
			switch {
			case !ok:
				v.Add(where, "there is no task %q; there are %s", name, c.names())
			case slices.Contains(c.after[i], p):
				v.Add(where, "the task %q is named twice", name)
			default:
				c.after[i] = append(c.after[i], p)
			}
		}
	}
	if c.circles(v) {
		return c
	}
	for i := range tasks {
		c.before[i] = c.reach(i)
	}
	for i, t := range tasks {
		for n, name := range t.Uses {
			p, ok := c.place[name]
			if !ok || !slices.Contains(c.before[i], p) {
				v.Add(fmt.Sprintf("tasks[%d].uses[%d]", i, n),
					"task %q does not come before %q, so its files are not there; tasks before it: %s", name, t.Name,
					orNone(c.Before(t.Name)))
			}
		}
	}
	return c
}

// circles tells of tasks that follow themselves, with the way round, and of
// those that are never reached because they follow such a task.
func (c Chain) circles(v *fault.Invalid) bool {
	inCircle := map[int]bool{}
	for i, t := range c.tasks {
		if inCircle[i] {
			continue
		}
		way := Circle(i, func(n int) []int { return c.after[n] })
		if way == nil {
			continue
		}
		names := make([]string, len(way))
		for k, n := range way {
			inCircle[n] = true
			names[len(way)-1-k] = c.tasks[n].Name // said in the order of the work
		}
		v.Add(fmt.Sprintf("tasks[%d].after", i), "the tasks go round in a circle: %s; let %q begin without one of them",
			strings.Join(names, " > "), t.Name)
	}
	if len(inCircle) == 0 {
		return false
	}
	for i, t := range c.tasks {
		if inCircle[i] {
			continue
		}
		for _, n := range c.reach(i) {
			if inCircle[n] {
				v.Add(fmt.Sprintf("tasks[%d].after", i),
					"task %q is never reached: it comes after %q, which stands in a circle", t.Name, c.tasks[n].Name)
				break
			}
		}
	}
	return true
}

// Circle finds a way from start back to itself along next, with start at both
// ends; nil when there is none.
func Circle[N comparable](start N, next func(N) []N) []N {
	type step struct {
		at   N
		from int
	}
	steps := []step{{start, -1}}
	seen := map[N]bool{}
	for i := 0; i < len(steps); i++ {
		for _, n := range next(steps[i].at) {
			if n == start {
				way := []N{n}
				for k := i; k >= 0; k = steps[k].from {
					way = append(way, steps[k].at)
				}
				slices.Reverse(way)
				return way
			}
			if !seen[n] {
				seen[n] = true
				steps = append(steps, step{n, i})
			}
		}
	}
	return nil
}

// reach lists all that come before a task, in the order of the list.
func (c Chain) reach(i int) []int {
	seen := make([]bool, len(c.tasks))
	todo := slices.Clone(c.after[i])
	for len(todo) > 0 {
		n := todo[len(todo)-1]
		todo = todo[:len(todo)-1]
		if !seen[n] {
			seen[n] = true
			todo = append(todo, c.after[n]...)
		}
	}
	var out []int
	for n, s := range seen {
		if s {
			out = append(out, n)
		}
	}
	return out
}

func (c Chain) names() string {
	names := make([]string, 0, len(c.tasks))
	for _, t := range c.tasks {
		names = append(names, t.Name)
	}
	return strings.Join(names, ", ")
}

func orNone(names []string) string {
	if len(names) == 0 {
		return "none"
	}
	return strings.Join(names, ", ")
}

// Before lists the tasks that come before one, directly or not, in the order of
// the list.
func (c Chain) Before(task string) []string {
	var names []string
	if i, ok := c.place[task]; ok {
		for _, n := range c.before[i] {
			names = append(names, c.tasks[n].Name)
		}
	}
	return names
}

// Follows lists the tasks that one follows directly.
func (c Chain) Follows(task string) []string {
	names := []string{}
	if i, ok := c.place[task]; ok {
		for _, n := range c.after[i] {
			names = append(names, c.tasks[n].Name)
		}
	}
	return names
}

// Uses lists the tasks whose files a task takes.
func (c Chain) Uses(task string) []string {
	if i, ok := c.place[task]; ok && len(c.tasks[i].Uses) > 0 {
		return c.tasks[i].Uses
	}
	return c.Before(task)
}

// Ended is how far a part has come: the tasks that have ended, by name. One that
// failed stands here only when it is not tried again.
type Ended map[string]job.AttemptState

// Move is what is to be done with a task now.
type Move struct {
	Task job.Task
	Over string // why it is passed over; empty when it may begin
}

// Next lists the tasks that may begin now and those that are to be passed over,
// in the order of the list, given what has ended and what works. It is empty
// when nothing is to be done but to wait, or when all has ended.
func (c Chain) Next(ended Ended, working map[string]bool) []Move {
	if c.Stopped(ended) != "" {
		return nil
	}
	var moves []Move
	for i, t := range c.tasks {
		if _, done := ended[t.Name]; done || working[t.Name] {
			continue
		}
		ready, over := true, ""
		for _, n := range c.after[i] {
			state, done := ended[c.tasks[n].Name]
			ready = ready && done
			if state == job.AttemptOver && t.OnlyIf == "" {
				over = fmt.Sprintf("task %s, which it follows, was passed over", c.tasks[n].Name)
			}
		}
		if ready {
			moves = append(moves, Move{Task: t, Over: over})
		}
	}
	return moves
}

// Stopped names the task whose failure ends the chain; empty when there is none.
func (c Chain) Stopped(ended Ended) string {
	for _, t := range c.tasks {
		state := ended[t.Name]
		if (state == job.AttemptFailed || state == job.AttemptUnknown) && t.IfFailed != job.FailedGoOn {
			return t.Name
		}
	}
	return ""
}

// Blank tells whether a task acts on what was found and nothing was: all that
// could have found something before it came back blank. makers names them.
func (c Chain) Blank(task string, ended Ended) (blank bool, makers []string) {
	i, ok := c.place[task]
	if !ok || c.tasks[i].Kind.Makes() {
		return false, nil
	}
	return c.allBlank(c.before[i], ended)
}

func (c Chain) allBlank(among []int, ended Ended) (bool, []string) {
	var makers []string
	for _, n := range among {
		t := c.tasks[n]
		state, done := ended[t.Name]
		if !t.Kind.Makes() || !done || state == job.AttemptOver {
			continue
		}
		if state != job.AttemptBlank {
			return false, nil
		}
		makers = append(makers, t.Name)
	}
	return len(makers) > 0, makers
}

// Outcome is how a part ended, once Next is empty and nothing works: the first
// failure that stops it, else partly when a task failed that the job goes on
// without, else blank when nothing was found and nothing was done with it, else
// done.
func (c Chain) Outcome(ended Ended) (job.PartState, string) {
	if name := c.Stopped(ended); name != "" {
		return job.PartFailed, "task " + name + " failed"
	}
	var failed, over []string
	acted := false
	all := make([]int, len(c.tasks))
	for i, t := range c.tasks {
		all[i] = i
		switch ended[t.Name] {
		case job.AttemptFailed, job.AttemptUnknown:
			failed = append(failed, t.Name)
		case job.AttemptOver:
			over = append(over, t.Name)
		case job.AttemptDone:
			acted = acted || !t.Kind.Makes()
		}
	}
	blank, makers := c.allBlank(all, ended)
	switch {
	case len(failed) > 0:
		return job.PartPartly, fmt.Sprintf("task %s failed, and the job goes on without it", strings.Join(failed, ", "))
	case blank && !acted:
		return job.PartBlank, fmt.Sprintf("blank: %s found nothing", strings.Join(makers, ", "))
	case len(over) == len(c.tasks):
		return job.PartDone, "all tasks were passed over"
	case len(over) > 0:
		return job.PartDone, fmt.Sprintf("all tasks done; passed over: %s", strings.Join(over, ", "))
	}
	return job.PartDone, "all tasks done"
}
