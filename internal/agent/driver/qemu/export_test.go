package qemu

// Probe starts a guest under an accelerator.
var Probe = probe
