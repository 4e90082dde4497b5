package meter

import (
	"cmp"
	"math"
	"slices"

	"github.com/prometheus/client_golang/prometheus"
	dto "github.com/prometheus/client_model/go"
	"google.golang.org/protobuf/proto"
	"google.golang.org/protobuf/types/known/timestamppb"

	"humblemule.example/internal/core/engine"
)

// figure describes a figure.
type figure struct {
	name, help string
	labels     []string
}

// about describes a figure.
func about(name, help string, labels ...string) *figure {
	return &figure{"hmule_" + name, help, labels}
}

// gatherer adds figures, which are handed over as they are written, to those of a registry. A registry
// of all would check and sort each figure first, which takes longer than all else.
type gatherer struct {
	registry *prometheus.Registry
	figures  func() (map[*figure]*dto.MetricFamily, error)
}

// Gather is that of [prometheus.Gatherer].
func (g gatherer) Gather() ([]*dto.MetricFamily, error) {
	all, err := g.registry.Gather()
	if err != nil {
		return all, err
	}
	own, err := g.figures()
	for _, f := range own {
		all = append(all, f)
	}
	slices.SortFunc(all, func(a, b *dto.MetricFamily) int { return cmp.Compare(a.GetName(), b.GetName()) })
	return all, err
}

// pen writes figures.
type pen struct {
	families map[*figure]*dto.MetricFamily
	// pairs are labels with their values, which many figures have.
	pairs map[[2]string]*dto.LabelPair
}

func newPen() *pen {
	return &pen{map[*figure]*dto.MetricFamily{}, map[[2]string]*dto.LabelPair{}}
}

// add adds a figure with some labels, in the order in which these are described.
func (p *pen) add(f *figure, kind dto.MetricType, m *dto.Metric, values []string) {
	family := p.families[f]
	if family == nil {
		family = &dto.MetricFamily{Name: &f.name, Help: &f.help, Type: &kind}
		p.families[f] = family
	}
	for i, value := range values {
		pair := p.pairs[[2]string{f.labels[i], value}]
		if pair == nil {
			pair = &dto.LabelPair{Name: &f.labels[i], Value: &value}
			p.pairs[[2]string{f.labels[i], value}] = pair
		}
		m.Label = append(m.Label, pair)
	}
	family.Metric = append(family.Metric, m)
}

func (p *pen) gauge(f *figure, v float64, labels ...string) {
	p.add(f, dto.MetricType_GAUGE, &dto.Metric{Gauge: &dto.Gauge{Value: &v}}, labels)
}

func (p *pen) counter(f *figure, v uint64, labels ...string) {
	p.add(f, dto.MetricType_COUNTER, &dto.Metric{Counter: &dto.Counter{Value: proto.Float64(float64(v))}}, labels)
}

func (p *pen) histogram(f *figure, h *engine.Histogram, labels ...string) {
	if h.Counts == nil {
		return // nothing has been counted yet
	}
	upper := h.Uppers()
	told := &dto.Histogram{SampleCount: proto.Uint64(h.Count()), SampleSum: &h.Sum, Bucket: make([]*dto.Bucket, len(upper))}
	below := uint64(0)
	for i := range upper {
		below += h.Counts[i]
		told.Bucket[i] = &dto.Bucket{UpperBound: &upper[i], CumulativeCount: proto.Uint64(below)}
	}
	for i, e := range h.Exemplars {
		if e.Trace == "" {
			continue
		}
		if i == len(upper) { // above all bounds
			told.Bucket = append(told.Bucket, &dto.Bucket{UpperBound: proto.Float64(math.Inf(1)), CumulativeCount: told.SampleCount})
		}
		told.Bucket[i].Exemplar = &dto.Exemplar{
			Value: &e.Value, Timestamp: timestamppb.New(e.At.Go()), Label: []*dto.LabelPair{{Name: proto.String("trace_id"), Value: &e.Trace}},
		}
	}
	p.add(f, dto.MetricType_HISTOGRAM, &dto.Metric{Histogram: told}, labels)
}
