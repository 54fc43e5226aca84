// Package chain tells what is next in a job's tasks and what the outcome of
// the whole is. Tasks run one after another, in the order in which they stand.
package chain

// Next is the position of the first task that is not finished yet; ok is false
// when all are.
func Next(tasks []string, finished func(name string) bool) (i int, ok bool) {
	for i, name := range tasks {
		if !finished(name) {
			return i, true
		}
	}
	return 0, false
}
