package web

import (
	"context"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"homing/central/feeds"
)

// feedMetrics are how far the feeds are, asked for whenever somebody reads the metrics.
type feedMetrics struct {
	list                                  func(ctx context.Context, name string) ([]feeds.Status, error)
	behind, brought, rate, aside, trouble *prometheus.Desc
}

func newFeedMetrics(list func(ctx context.Context, name string) ([]feeds.Status, error)) feedMetrics {
	about := func(name, help string) *prometheus.Desc { return prometheus.NewDesc(name, help, []string{"feed"}, nil) }
	return feedMetrics{list, about("homing_feed_lag", "Accepted changes that a feed has not gone past yet."),
		about("homing_feed_delivered_records_total", "Records that a feed has brought to its destination."),
		about("homing_feed_rate_records", "Records that a feed has brought within the last whole minute."), about("homing_feed_aside", "Records that the destination of a feed has refused."),
		about("homing_feed_waits", "1 while something is wrong with a feed.")}
}

// Describe is [prometheus.Collector.Describe].
func (m feedMetrics) Describe(to chan<- *prometheus.Desc) {
	for _, one := range []*prometheus.Desc{m.behind, m.brought, m.rate, m.aside, m.trouble} {
		to <- one
	}
}

// Collect is [prometheus.Collector.Collect].
func (m feedMetrics) Collect(to chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	all, err := m.list(ctx, "")
	if err != nil {
		to <- prometheus.NewInvalidMetric(m.behind, err)
		return
	}
	for _, one := range all {
		waits := 0.0
		if one.State == feeds.StateWaits {
			waits = 1
		}
		to <- prometheus.MustNewConstMetric(m.behind, prometheus.GaugeValue, float64(one.Lag), one.Name)
		to <- prometheus.MustNewConstMetric(m.brought, prometheus.CounterValue, float64(one.Delivered), one.Name)
		to <- prometheus.MustNewConstMetric(m.rate, prometheus.GaugeValue, float64(one.Rate), one.Name)
		to <- prometheus.MustNewConstMetric(m.aside, prometheus.GaugeValue, float64(one.Aside), one.Name)
		to <- prometheus.MustNewConstMetric(m.trouble, prometheus.GaugeValue, waits, one.Name)
	}
}
