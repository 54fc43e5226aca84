// Package crash names the points at which a fault test lets a node die. Each stands between two
// steps that must not be taken for one.
package crash

// The points.
const (
	Ring    = "ring"    // rings are written, not committed
	Rung    = "rung"    // rings are committed
	Claim   = "claim"   // a part is claimed, nothing begun
	Task    = "task"    // a task has done its work, nothing written
	Settle  = "settle"  // outcomes are written, not committed
	Settled = "settled" // outcomes are committed
	Send    = "send"    // a delivery is claimed, nothing offered
	Offer   = "offer"   // the offer is committed, the message not accepted
	Answer  = "answer"  // the other side has answered, the receipt not written
	Receipt = "receipt" // the receipt is committed
	Seen    = "seen"    // what a watch saw is written with the runs that it starts, not committed
	Noted   = "noted"   // and committed, the look not ended
	Cleared = "cleared" // a collected file is moved or removed, which is not noted
)

// Points lists those that each run passes, and Watching those of what is looked at.
var (
	Points   = []string{Ring, Rung, Claim, Task, Settle, Settled, Send, Offer, Answer, Receipt}
	Watching = []string{Seen, Noted, Cleared}
)
