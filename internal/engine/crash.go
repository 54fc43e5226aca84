package engine

// Points at which a fault test lets a node die. Each stands between two steps
// that must not be taken for one.
const (
	crashRing    = "ring"    // rings are written, not committed
	crashRung    = "rung"    // rings are committed
	crashClaim   = "claim"   // a part is claimed, nothing begun
	crashTask    = "task"    // a task has done its work, nothing written
	crashSettle  = "settle"  // outcomes are written, not committed
	crashSettled = "settled" // outcomes are committed
	crashSend    = "send"    // a delivery is claimed, nothing offered
	crashOffer   = "offer"   // the offer is committed, the message not accepted
	crashAnswer  = "answer"  // the other side has answered, the receipt not written
	crashReceipt = "receipt" // the receipt is committed
)

// CrashPoints lists the points by name.
var CrashPoints = []string{crashRing, crashRung, crashClaim, crashTask, crashSettle, crashSettled, crashSend, crashOffer, crashAnswer, crashReceipt}

// crash tells the fault test's hook, when there is one, that a point is reached.
func (e *Engine) crash(point string) {
	if e.o.At != nil {
		e.o.At(point)
	}
}
