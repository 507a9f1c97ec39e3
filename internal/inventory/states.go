package inventory

// JobState is how a job stands.
type JobState string

// All states of a job. One is partly done that some of its machines came through of.
const (
	JobWaiting   JobState = "waiting"
	JobWorking   JobState = "working"
	JobHeld      JobState = "held"
	JobDone      JobState = "done"
	JobPartly    JobState = "partly"
	JobFailed    JobState = "failed"
	JobCancelled JobState = "cancelled"
)

// JobStates are all of them.
var JobStates = []JobState{JobWaiting, JobWorking, JobHeld, JobDone, JobPartly, JobFailed, JobCancelled}

// StepState is how a step of a job stands.
type StepState string

// All states of a step.
const (
	StepWaiting StepState = "waiting"
	StepWorking StepState = "working"
	StepDone    StepState = "done"
	StepFailed  StepState = "failed"
	StepUndone  StepState = "undone"
)
