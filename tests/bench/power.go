package main

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	openapi "unvora.example/unvora/api"
)

// power measures how much later QEMU runs when it is started through the service than by hand, on the same disk.
func (b *bench) power() error {
	c, err := b.api()
	if err != nil {
		return err
	}
	disk := filepath.Join(b.dir, "e/hosts/tern/tideline/ferry-display/ferry-display-disk1.qcow2")
	var ours, plain []float64
	for range b.runs {
		secs, err := timed(func() error { return b.work(c, "start") })
		if err != nil {
			return err
		}
		ours = append(ours, secs)
		if err := b.work(c, "stop"); err != nil {
			return err
		}
		if secs, err = byHand(disk, filepath.Join(b.dir, "monitor")); err != nil {
			return err
		}
		plain = append(plain, secs)
	}
	more := median(ours) - median(plain)
	b.row([]any{"power on, until QEMU runs", fmt.Sprintf("%.0f ms", median(ours)*1000), "QEMU by hand",
		fmt.Sprintf("%.0f ms", median(plain)*1000), fmt.Sprintf("+%.0f ms", more*1000), "+300 ms"})
	return nil
}

// work starts or stops the machine that really runs, and waits for the job's end.
func (b *bench) work(c *openapi.ClientWithResponses, operation string) error {
	var req openapi.Request
	copies, yes := []string{"tern/ferry-display"}, true
	var err error
	if operation == "start" {
		err = req.FromStartRequest(openapi.StartRequest{Copies: &copies, TakeRecommended: &yes})
	} else {
		err = req.FromStopRequest(openapi.StopRequest{Copies: &copies, TakeRecommended: &yes})
	}
	if err != nil {
		return err
	}
	j, err := c.StartJobWithResponse(context.Background(), &openapi.StartJobParams{}, req)
	if err != nil {
		return err
	}
	if j.JSON202 == nil {
		return fmt.Errorf("%s: %s", operation, bytes.TrimSpace(j.Body))
	}
	return ended(c, j.JSON202.Id, 2*time.Millisecond)
}

// byHand is how long QEMU takes until it greets, started with the same disk.
func byHand(disk, monitor string) (secs float64, err error) {
	_ = os.Remove(monitor)
	cmd := exec.Command("qemu-system-x86_64", "-nodefaults", "-no-user-config", "-display", "none", "-machine",
		"q35,accel=tcg", "-m", "64", "-blockdev",
		"driver=qcow2,node-name=d,file.driver=file,file.filename="+disk, "-device", "virtio-blk-pci,drive=d",
		"-device", "VGA", "-qmp", "unix:"+monitor+",server=on,wait=off")
	defer func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	}()
	return timed(func() error {
		if err := cmd.Start(); err != nil {
			return err
		}
		for began := time.Now(); time.Since(began) < time.Minute; time.Sleep(time.Millisecond) {
			c, err := net.Dial("unix", monitor)
			if err != nil {
				continue
			}
			_, err = c.Read(make([]byte, 1))
			c.Close()
			return err
		}
		return fmt.Errorf("QEMU does not greet within a minute")
	})
}
