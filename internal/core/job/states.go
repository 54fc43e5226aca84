package job

import "slices"

// RunState is the state of a run; the last six are outcomes.
type RunState string

// The states of a run.
const (
	RunWaiting    RunState = "waiting"    // for its turn, another job, or a retry
	RunRunning    RunState = "running"    // at least one part works
	RunDelivering RunState = "delivering" // all tasks done, deliveries still open
	RunDone       RunState = "done"
	RunPartly     RunState = "partly" // some deliveries failed for good, or nobody knows
	RunBlank      RunState = "blank"
	RunFailed     RunState = "failed" // nothing was delivered
	RunCancelled  RunState = "cancelled"
	RunPassedOver RunState = "passed over"
)

// Ended tells whether the state is an outcome.
func (s RunState) Ended() bool { return !slices.Contains(OpenRuns, s) }

// OpenRuns are the states of runs that have not ended, and OpenParts those of parts.
var (
	OpenRuns  = []RunState{RunWaiting, RunRunning, RunDelivering}
	OpenParts = []PartState{PartWaiting, PartRunning}
)

// runMoves is the table of moves. An outcome may be revised by a later bounce
// or by a delivery that was settled; one that
// failed works again when somebody lets it go on where it failed.
var runMoves = map[RunState][]RunState{
	RunWaiting:    {RunRunning, RunFailed, RunCancelled, RunPassedOver},
	RunRunning:    {RunWaiting, RunDelivering, RunDone, RunPartly, RunBlank, RunFailed, RunCancelled},
	RunDelivering: {RunDone, RunPartly, RunFailed, RunCancelled},
	RunDone:       {RunDelivering, RunPartly, RunFailed},
	RunPartly:     {RunDelivering, RunDone, RunFailed, RunWaiting},
	RunBlank:      {RunWaiting},
	RunFailed:     {RunDelivering, RunDone, RunPartly, RunWaiting},
	RunCancelled:  {RunDelivering, RunWaiting},
}

// MayBecome tells whether a run may move from s to the next state.
func (s RunState) MayBecome(next RunState) bool { return slices.Contains(runMoves[s], next) }

// PartState is the state of one part of a run.
type PartState string

// The states of a part.
const (
	PartWaiting   PartState = "waiting"
	PartRunning   PartState = "running"
	PartDone      PartState = "done"
	PartPartly    PartState = "partly" // a task failed, and the job goes on without it
	PartBlank     PartState = "blank"
	PartFailed    PartState = "failed"
	PartCancelled PartState = "cancelled"
)

// AttemptState is the state of one try of one task.
type AttemptState string

// The states of an attempt.
const (
	AttemptRunning AttemptState = "running"
	AttemptDone    AttemptState = "done"
	AttemptBlank   AttemptState = "blank"
	AttemptFailed  AttemptState = "failed"
	AttemptLost    AttemptState = "lost"    // its node died or handed it back
	AttemptUnknown AttemptState = "unknown" // lost, and what it did cannot be repeated unseen
	AttemptOver    AttemptState = "passed over"
)

// DeliveryState is the state of the handing over to one recipient.
type DeliveryState string

// The states of a delivery.
const (
	DeliveryWaiting DeliveryState = "waiting" // for its turn or a retry
	DeliverySending DeliveryState = "sending" // nothing was offered yet: safe to repeat
	DeliveryOffered DeliveryState = "offered" // the other side may accept at any instant
	DeliverySent    DeliveryState = "sent"
	DeliveryFailed  DeliveryState = "failed"
	DeliveryBounced DeliveryState = "bounced"
	DeliveryUnknown DeliveryState = "unknown" // offered, and the answer was lost

	DeliveryTaken    DeliveryState = "taken"    // the other side has it, and will say later what came of it
	DeliveryDeclined DeliveryState = "declined" // a second person said no
)

// OpenDeliveries are the states in which a delivery still moves by itself.
var OpenDeliveries = []DeliveryState{DeliveryWaiting, DeliverySending, DeliveryOffered, DeliveryTaken}

// Open tells whether the delivery still moves by itself.
func (s DeliveryState) Open() bool { return slices.Contains(OpenDeliveries, s) }

// AlertState is the state of an alert.
type AlertState string

// The states of an alert.
const (
	AlertOpen         AlertState = "open"
	AlertAcknowledged AlertState = "acknowledged"
	AlertClosed       AlertState = "closed"
)

// RingDecision is what was decided on one due time of one trigger.
type RingDecision string

// The decisions.
const (
	RingRun        RingDecision = "run"
	RingJoined     RingDecision = "joined"
	RingPassedOver RingDecision = "passed over"
)
