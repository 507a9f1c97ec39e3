package draw

import (
	"slices"

	"unvora.example/unvora/core/firststart"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/inventory"
)

// FirstStart is what machines that are made are to be told when they start for the first time.
type FirstStart struct {
	FirstStart string `json:"firstStart,omitempty"` // YAML, as firststart.Data has it
}

// into puts it into a request, and the addresses that a number of machines are to have among those that are looked for.
func (f *FirstStart) into(bring *plan.BringRequest, a *plan.Arrival, machines int) (err error) {
	if f.FirstStart == "" {
		return nil
	}
	if bring.FirstStart, err = firststart.Parse(f.FirstStart); err != nil {
		return inventory.Wrong("First-start data: %v.", err)
	}
	for n := range max(1, machines) {
		d, err := bring.FirstStart.For("machine", n+1)
		if err != nil {
			return inventory.Wrong("First-start data: %v.", err)
		}
		for _, wish := range d.Wishes() {
			if wish != firststart.Give && !slices.Contains(a.Wanted, wish) {
				a.Wanted = append(a.Wanted, wish)
			}
		}
	}
	return nil
}
