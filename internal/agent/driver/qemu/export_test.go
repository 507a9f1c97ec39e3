package qemu

// ProbeStatus is with what QEMU ends when the probe has run.
const ProbeStatus = probeStatus

// ProbeSector is the probe.
func ProbeSector() []byte { return probeSector() }
