package inventory

// Uses is what a transfer uses of what there is only so much of, for tests that put one into the records.
var Uses = uses
