package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	openapi "unvora.example/unvora/api"
)

// agentAccount is the account that the demo's agents run with, where root starts it.
const agentAccount = 65534

// move measures for how long a machine that runs stands while it is moved, against the whole move. It writes a little
// meanwhile, as guests of stand-ins do.
func (b *bench) move(image string) error {
	c, err := b.api()
	if err != nil {
		return err
	}
	const name = "moved-while-it-runs"
	folder := filepath.Join(b.dir, "e/hosts/gannet/reef", name)
	disk := filepath.Join(folder, "disk1.qcow2")
	if err := errors.Join(makeFolder(folder, name, diskSize), os.Remove(disk)); err != nil {
		return err
	}
	out, err := exec.Command(b.unvora, "disk", "copy", image, disk, "--format", "qcow2").CombinedOutput()
	if err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	if os.Getuid() == 0 {
		for _, path := range []string{folder, disk, filepath.Join(folder, name+".ovf")} {
			if err := os.Chown(path, agentAccount, agentAccount); err != nil {
				return err
			}
		}
	}
	if err := registerThem(c, "reef/"+name); err != nil {
		return err
	}
	if err := b.client("power", "on", name); err != nil {
		return err
	}
	var down, whole []float64
	for n := range b.runs {
		to := []string{"petrel", "gannet"}[n%2]
		secs, took, err := moveIt(c, name, to)
		if err != nil {
			return err
		}
		down, whole = append(down, secs), append(whole, took)
	}
	b.row([]any{"a machine that runs is moved: it stands for", fmt.Sprintf("%.2f s", median(down)), "the whole move",
		fmt.Sprintf("%.2f s", median(whole)), fmt.Sprintf("%.2f", median(down)/median(whole)), "0.15"})
	return b.client("power", "off", name)
}

// moveIt moves a machine, and returns for how long it stood, and for how long the job took.
func moveIt(c *openapi.ClientWithResponses, name, to string) (stood, took float64, err error) {
	yes := true
	var req openapi.Request
	if err := req.FromMoveRequest(openapi.MoveRequest{Copies: &[]string{name}, Host: &to,
		TakeRecommended: &yes}); err != nil {
		return 0, 0, err
	}
	began := time.Now()
	j, err := c.StartJobWithResponse(context.Background(), &openapi.StartJobParams{}, req)
	if err != nil {
		return 0, 0, err
	}
	if j.JSON202 == nil {
		return 0, 0, fmt.Errorf("move: %s", bytes.TrimSpace(j.Body))
	}
	if err := ended(c, j.JSON202.Id, 2*time.Millisecond); err != nil {
		return 0, 0, err
	}
	took = time.Since(began).Seconds()
	now, err := c.GetJobWithResponse(context.Background(), j.JSON202.Id)
	if err != nil {
		return 0, 0, err
	}
	if now.JSON200 == nil || now.JSON200.DownSeconds == nil {
		return 0, 0, fmt.Errorf("the job does not say for how long the machine stood: %s", now.Body)
	}
	return *now.JSON200.DownSeconds, took, nil
}
