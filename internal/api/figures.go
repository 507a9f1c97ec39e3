package api

import (
	"context"
	"log/slog"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/inventory"
)

// figuresTime is how long the database gets to count, at each look of a monitor.
const figuresTime = 5 * time.Second

// estate tells a monitor of hosts, jobs and pools, as the database has them when it looks.
type estate struct {
	inv *inventory.Inventory
	log *slog.Logger

	hosts, jobs, free, total, answers *prometheus.Desc
}

func newEstate(inv *inventory.Inventory, log *slog.Logger) *estate {
	return &estate{inv, log,
		prometheus.NewDesc("unvora_hosts", "Hosts, by state.", []string{"state"}, nil),
		prometheus.NewDesc("unvora_jobs", "Jobs that are not over, by state, and those that failed within a day.",
			[]string{"state"}, nil),
		prometheus.NewDesc("unvora_pool_free_bytes", "Room that a pool has left. The fullest 200 are told.",
			[]string{"host", "pool"}, nil),
		prometheus.NewDesc("unvora_pool_bytes", "Size of a pool. The fullest 200 are told.",
			[]string{"host", "pool"}, nil),
		prometheus.NewDesc("unvora_database_up", "1 when the database has answered.", nil, nil)}
}

// Describe implements prometheus.Collector.
func (e *estate) Describe(c chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{e.hosts, e.jobs, e.free, e.total, e.answers} {
		c <- d
	}
}

// Collect implements prometheus.Collector.
func (e *estate) Collect(c chan<- prometheus.Metric) {
	ctx, stop := context.WithTimeout(context.Background(), figuresTime)
	defer stop()
	gauge := func(d *prometheus.Desc, v float64, labels ...string) {
		c <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	f, err := e.inv.Figures(ctx)
	if err != nil {
		e.log.Warn("figures for a monitor", "error", err)
		gauge(e.answers, 0)
		return
	}
	gauge(e.answers, 1)
	for _, state := range []plan.HostState{plan.HostUp, plan.HostResting, plan.HostUnreachable} {
		gauge(e.hosts, float64(f.Hosts[state]), string(state))
	}
	for _, state := range []inventory.JobState{inventory.JobWaiting, inventory.JobWorking, inventory.JobHeld,
		inventory.JobFailed} {
		gauge(e.jobs, float64(f.Jobs[state]), string(state))
	}
	told := map[[2]string]bool{}
	for _, p := range f.Pools {
		if at := [2]string{p.Host, p.Name}; !told[at] { // two of one name at one host can't be told apart
			told[at] = true
			gauge(e.free, float64(p.FreeBytes), p.Host, p.Name)
			gauge(e.total, float64(p.TotalBytes), p.Host, p.Name)
		}
	}
}
