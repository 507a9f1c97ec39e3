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
		if err := owned(folder); err != nil {
			return err
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
	if err := b.client("power", "off", name); err != nil {
		return err
	}
	return b.moveMany(c)
}

// moveMany measures twenty machines that are moved in one job, two at a time, against as many copies of their disks
// that are read back, two at a time.
func (b *bench) moveMany(c *openapi.ClientWithResponses) error {
	const many = 20
	reef := filepath.Join(b.dir, "e/hosts/gannet/reef")
	small := filepath.Join(b.dir, "small.img")
	if err := makeDisk(small, 64<<20); err != nil {
		return err
	}
	copies, folders := []string{}, []string{}
	copying := ""
	for n := range many {
		name := fmt.Sprintf("moved-%02d", n)
		folder := filepath.Join(reef, name)
		disk := filepath.Join(folder, "disk1.qcow2")
		if err := errors.Join(makeFolder(folder, name, diskSize), os.Remove(disk)); err != nil {
			return err
		}
		out, err := exec.Command(b.unvora, "disk", "copy", small, disk, "--format", "qcow2").CombinedOutput()
		if err != nil {
			return fmt.Errorf("%w: %s", err, out)
		}
		if os.Getuid() == 0 {
			if err := owned(folder); err != nil {
				return err
			}
		}
		copies, folders = append(copies, "gannet/"+name), append(folders, "reef/"+name)
		copying += fmt.Sprintf("%s disk copy %s copied-%02d.qcow2 --format qcow2 --verify -q\n", b.unvora, disk, n)
	}
	if err := registerThem(c, folders...); err != nil {
		return err
	}
	script := filepath.Join(b.dir, "copying")
	if err := os.WriteFile(script, []byte(copying), 0o600); err != nil {
		return err
	}
	plain, err := timed(func() error { return b.shell("xargs -P 2 -L 1 -a " + script + " env") })
	if err != nil {
		return err
	}
	whole, err := timed(func() error {
		yes, to := true, "petrel"
		var req openapi.Request
		if err := req.FromMoveRequest(openapi.MoveRequest{Copies: &copies, Host: &to,
			TakeRecommended: &yes}); err != nil {
			return err
		}
		j, err := c.StartJobWithResponse(context.Background(), &openapi.StartJobParams{}, req)
		if err != nil {
			return err
		}
		if j.JSON202 == nil {
			return fmt.Errorf("move: %s", bytes.TrimSpace(j.Body))
		}
		return ended(c, j.JSON202.Id, 20*time.Millisecond)
	})
	if err != nil {
		return err
	}
	b.row([]any{fmt.Sprintf("%d machines moved in one job, 64 MiB of data each", many), fmt.Sprintf("%.2f s", whole),
		"their disks copied and read back, two at a time", fmt.Sprintf("%.2f s", plain),
		fmt.Sprintf("%.2f", whole/plain), "1.2"})
	return nil
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
