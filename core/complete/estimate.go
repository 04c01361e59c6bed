package complete

import (
	"math"
	"math/bits"
)

// cells is a table of how many devices each pattern of ways has seen, by the pattern: bit i is set where way i has. What no way has seen
// is not in it.
type cells struct {
	ways  int
	count []float64 // by pattern, from 0 to 1<<ways - 1
	open  uint      // a pattern that says nothing, as it holds what has gone as well; 0 for none
}

// unseen gives the patterns of what is missed: that of none of the ways, and the open one.
func (c cells) unseen() []uint {
	if c.open != 0 {
		return []uint{0, c.open}
	}
	return []uint{0}
}

func (c cells) isSeen(pattern uint) bool { return pattern != 0 && pattern != c.open }

// guess is what an estimator says is missed.
type guess struct {
	missed   float64
	variance float64
}

// z90 is how many standard deviations either side of the middle hold 90 % of a normal distribution.
const z90 = 1.6448536269514722

// interval gives the bounds that hold 90 %, on the scale of logarithms, as what is missed cannot be less than nothing (Chao, 1987, "Estimating
// the population size for capture-recapture data with unequal catchability", Biometrics 43).
func (g guess) interval() (low, high float64) {
	if g.missed <= 0 {
		return 0, 0
	}
	c := math.Exp(z90 * math.Sqrt(math.Log1p(g.variance/(g.missed*g.missed))))
	return g.missed / c, g.missed * c
}

// chao gives Chao's lower bound of what is missed, from how many devices were seen by exactly one way and by exactly two (Chao, 1987; in the
// form that is less biased where few were seen by two). It holds whatever the devices' chances of being seen are.
func (c cells) chao() guess {
	var once, twice float64
	for pattern, n := range c.count {
		if c.isSeen(uint(pattern)) {
			switch bits.OnesCount(uint(pattern)) {
			case 1:
				once += n
			case 2:
				twice += n
			}
		}
	}
	t := float64(c.ways)
	missed := (t - 1) / t * once * (once - 1) / (2 * (twice + 1))
	if missed <= 0 {
		return guess{}
	}
	r := once / (twice + 1)
	return guess{missed, (twice + 1) * (r*r/2 + r*r*r + r*r*r*r/4)}
}

// mostModels is how many models are held against one table: all sets of pairs of up to five ways.
const mostModels = 1 << 10

// supported is by how much Akaike's criterion of a model may lie above that of the best one for it to have support (Burnham and Anderson, 2002,
// "Model Selection and Multimodel Inference", 2.6).
const supported = 2

// logLinear gives what is missed by the log-linear models that the table supports, each weighed by its support: ways may depend on each other in
// pairs, so that what is seen by one is seen by the other more often, or more rarely, than chance has it (Fienberg, 1972, "The multiple recapture
// census for closed populations and incomplete 2^k contingency tables", Biometrika 59; Bishop, Fienberg and Holland, 1975, chapter 6). low and high
// hold for each of these models.
func (c cells) logLinear() (missed, low, high float64, ok bool) {
	type candidate struct {
		fit
		criterion float64
	}
	corrected := c.corrected()
	var pairs []uint // of ways, as patterns
	for i := range c.ways {
		for j := range i {
			pairs = append(pairs, 1<<i|1<<j)
		}
	}
	best := math.Inf(1)
	var all []candidate
	for chosen := range min(1<<len(pairs), mostModels) {
		terms := []uint{0}
		for i := range c.ways {
			terms = append(terms, 1<<i)
		}
		for i, pair := range pairs {
			if chosen>>i&1 == 1 {
				terms = append(terms, pair)
			}
		}
		if len(terms) > len(corrected.patterns()) {
			continue // there are not as many cells as it has parameters
		}
		f, fits := corrected.fit(terms)
		if !fits {
			continue
		}
		one := candidate{f, 2*float64(len(terms)) - 2*f.likelihood}
		all, best = append(all, one), min(best, one.criterion)
	}
	low = math.Inf(1)
	var weights float64
	for _, m := range all {
		above := m.criterion - best
		if above > supported {
			continue
		}
		weight := math.Exp(-above / 2)
		from, to := m.interval()
		missed, weights = missed+weight*m.missed, weights+weight
		low, high = min(low, from), max(high, to)
	}
	if weights == 0 {
		return 0, 0, 0, false
	}
	return missed / weights, low, high, true
}

// corrected adds to each cell what makes the estimate all but free of bias where cells are empty (Evans and Bonett, 1994, "Bias reduction for
// multiple-recapture estimators of closed population size", Biometrics 50).
func (c cells) corrected() cells {
	out := cells{ways: c.ways, count: make([]float64, len(c.count)), open: c.open}
	for _, pattern := range c.patterns() {
		out.count[pattern] = c.count[pattern] + math.Pow(0.5, float64(c.ways-1))
	}
	return out
}

// patterns gives those that tell something.
func (c cells) patterns() []uint {
	var all []uint
	for pattern := range c.count {
		if c.isSeen(uint(pattern)) {
			all = append(all, uint(pattern))
		}
	}
	return all
}

// fit is a log-linear model held against a table.
type fit struct {
	guess
	likelihood float64 // its logarithm, without what is the same for all models
}

const (
	// rounds of the fit, which is done when the logarithm of the likelihood moves by less than settled.
	fitRounds = 60
	settled   = 1e-8
	// steepest is the largest logarithm of an expected count: e^20 devices are more than there are.
	steepest = 20
)

// fit estimates a model by its greatest likelihood, with counts that are Poisson's, by Fisher's scoring (McCullagh and Nelder, 1989, 2.5). terms are
// what the logarithm of a count is the sum of: the mean, each way, and pairs of ways.
func (c cells) fit(terms []uint) (fit, bool) {
	patterns := c.patterns()
	row := func(pattern uint) []float64 {
		x := make([]float64, len(terms))
		for i, term := range terms {
			if pattern&term == term {
				x[i] = 1
			}
		}
		return x
	}
	rows := make([][]float64, len(patterns))
	eta := make([]float64, len(patterns))
	for i, pattern := range patterns {
		rows[i], eta[i] = row(pattern), math.Log(c.count[pattern]+0.1)
	}
	var information *cholesky
	var beta []float64
	before := math.Inf(-1)
	for range fitRounds {
		a, b := newSquare(len(terms)), make([]float64, len(terms))
		for i, x := range rows {
			mu := math.Exp(eta[i])
			working := eta[i] + (c.count[patterns[i]]-mu)/mu
			for j := range x {
				b[j] += x[j] * mu * working
				for k := range j + 1 {
					a[j][k] += x[j] * x[k] * mu
				}
			}
		}
		var ok bool
		if information, ok = decompose(a); !ok {
			return fit{}, false
		}
		beta = information.solve(b)
		var likelihood float64
		for i, x := range rows {
			eta[i] = max(-steepest, min(steepest, dot(x, beta)))
			likelihood += c.count[patterns[i]]*eta[i] - math.Exp(eta[i])
		}
		if math.Abs(likelihood-before) < settled {
			before = likelihood
			break
		}
		before = likelihood
	}
	return fit{c.missedBy(beta, information, row), before}, true
}

// missedBy gives what a fitted model says of the cells that nobody sees, with the variance of the estimate and that of the count itself.
func (c cells) missedBy(beta []float64, information *cholesky, row func(uint) []float64) guess {
	var g guess
	slope := make([]float64, len(beta))
	for _, pattern := range c.unseen() {
		x := row(pattern)
		mu := math.Exp(max(-steepest, min(steepest, dot(x, beta))))
		g.missed += mu
		for i := range slope {
			slope[i] += mu * x[i]
		}
	}
	g.variance = dot(slope, information.solve(slope)) + g.missed
	return g
}

func dot(a, b []float64) float64 {
	var sum float64
	for i := range a {
		sum += a[i] * b[i]
	}
	return sum
}

// cholesky is the lower triangle L of a symmetric matrix LL'.
type cholesky struct{ l [][]float64 }

func newSquare(n int) [][]float64 {
	a := make([][]float64, n)
	for i := range a {
		a[i] = make([]float64, n)
	}
	return a
}

// decompose takes the lower triangle of a symmetric matrix apart; ok is false where it is not positive definite.
func decompose(a [][]float64) (c *cholesky, ok bool) {
	for i := range a {
		for j := range i + 1 {
			sum := a[i][j] - dot(a[i][:j], a[j][:j])
			if i != j {
				a[i][j] = sum / a[j][j]
				continue
			}
			if sum <= 1e-12 || math.IsNaN(sum) {
				return nil, false
			}
			a[i][i] = math.Sqrt(sum)
		}
	}
	return &cholesky{a}, true
}

// solve gives x where LL'x is b.
func (c *cholesky) solve(b []float64) []float64 {
	x := append([]float64{}, b...)
	for i := range x {
		x[i] = (x[i] - dot(c.l[i][:i], x[:i])) / c.l[i][i]
	}
	for i := len(x) - 1; i >= 0; i-- {
		for j := i + 1; j < len(x); j++ {
			x[i] -= c.l[j][i] * x[j]
		}
		x[i] /= c.l[i][i]
	}
	return x
}
