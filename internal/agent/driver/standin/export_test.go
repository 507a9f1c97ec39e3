package standin

// Failed tells whether a guest saw an error of its disks.
func (d *Driver) Failed(folder string) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.guests[folder].failed.Load()
}
