package plan

import (
	"math"
	"time"
)

// Assumptions is what the risk of losing data is computed from. Every one is printed with the result and can be changed.
type Assumptions struct {
	// AFR is the share of disks that fail within a year. Large published populations lie between 0.01 and 0.02.
	AFR float64
	// URE is the chance that a bit cannot be read. Makers state 1e-14 to 1e-16; 1e-15 is usual for large disks.
	URE float64
	// Rate is how fast a disk is read and written in a rebuild, bytes a second.
	Rate float64
	// Measured is of how many rebuilds Rate is the median; 0: it was given.
	Measured int
	// Share is the part of the time a rebuild may work: 1 at full pace, a third at normal pace with busy clients.
	Share float64
	// Replace is the time from a failure until a new disk is in place; 0 with a hot spare.
	Replace time.Duration
	// Used is the share of the capacity that is written: what never was is not rebuilt.
	Used float64
}

// DefaultAssumptions are cautious ones for large disks, without a spare.
var DefaultAssumptions = Assumptions{AFR: 0.015, URE: 1e-15, Rate: 150e6, Share: 1, Replace: 24 * time.Hour, Used: 1}

// NormalShare is the part of the time a rebuild works at pace normal while clients are at work.
const NormalShare = 1.0 / 3

const year = 365.25 * 24 * time.Hour

// lambda is the failure rate of one disk a second: AFR = 1 - exp(-λ·year).
func (a Assumptions) lambda() float64 { return -math.Log1p(-a.AFR) / year.Seconds() }

// RebuildTime is how long one member of the given size takes, without the time to replace it.
func (a Assumptions) RebuildTime(size int64) time.Duration {
	seconds := float64(size) * a.Used / (a.Rate * a.Share)
	return time.Duration(min(seconds, 1e9) * float64(time.Second))
}

// chain is the Markov chain of one group of n members that survives m losses. State i is i members lost; m+1 is loss of
// data. In state i another member fails at rate (n-i)·λ, and one of the i lost ones is back at rate i·μ. When the group
// has no redundancy left, an unreadable sector met in the rebuild loses data as well.
//
// Source: the model of D. Patterson, G. Gibson, R. Katz, "A Case for Redundant Arrays of Inexpensive Disks", SIGMOD 1988,
// and P. Chen et al., "RAID: High-Performance, Reliable Secondary Storage", ACM Computing Surveys 26(2), 1994, section 5,
// extended to m losses. It takes failures as independent and exponentially distributed: real disks of one batch are
// not, so the figures compare levels better than they foretell years (K. Greenan, J. Plank, J. Wylie, "Mean Time to
// Meaningless", HotStorage 2010).
type chain struct {
	n, m   int
	lambda float64 // per second
	mu     float64 // per second
	ure    float64 // chance of an unreadable sector in a rebuild without redundancy
}

func (a Assumptions) chain(n, m int, size int64) chain {
	repair := a.RebuildTime(size) + a.Replace
	bits := float64(n-m) * float64(size) * a.Used * 8
	return chain{n: n, m: m, lambda: a.lambda(), mu: 1 / max(repair.Seconds(), 1e-3), ure: -math.Expm1(bits * math.Log1p(-a.URE))}
}

// up and down are the rates out of a state: to one more loss, to one less, and straight to loss of data.
func (c chain) rates(i int) (up, down, lost float64) {
	up = float64(c.n-i) * c.lambda
	down = float64(i) * c.mu
	if i == c.m && i > 0 {
		lost = down * c.ure
		down -= lost
	}
	return up, down, lost
}

// within is the chance of loss within a time: the chain's transition matrix over a short step by uniformization, squared
// until the step is the whole time. Nothing is ever subtracted, so that small chances keep their digits.
func (c chain) within(d time.Duration) float64 {
	if c.lambda == 0 {
		return 0
	}
	n := c.m + 2
	q := 0.0
	for i := 0; i <= c.m; i++ {
		up, down, lost := c.rates(i)
		q = max(q, up+down+lost)
	}
	// One jump of the uniformized chain, staying included.
	jump := newMatrix(n)
	jump[c.m+1][c.m+1] = 1
	for i := 0; i <= c.m; i++ {
		up, down, lost := c.rates(i)
		jump[i][i] += 1 - (up+down+lost)/q
		jump[i][i+1] += up / q
		if i > 0 {
			jump[i][i-1] += down / q
		}
		jump[i][c.m+1] += lost / q
	}
	squarings := max(0, int(math.Ceil(math.Log2(q*d.Seconds()))))
	step := q * d.Seconds() / math.Exp2(float64(squarings)) // expected jumps in one step, at most 1
	power, sum := newMatrix(n), newMatrix(n)
	for i := range power {
		power[i][i] = 1
	}
	weight := math.Exp(-step)
	for k := 1; k <= 40; k++ {
		for i := range sum {
			for j := range sum {
				sum[i][j] += weight * power[i][j]
			}
		}
		power = power.times(jump)
		weight *= step / float64(k)
	}
	for range squarings {
		sum = sum.times(sum)
	}
	return min(1, sum[0][c.m+1])
}

type matrix [][]float64

func newMatrix(n int) matrix {
	m := make(matrix, n)
	for i := range m {
		m[i] = make([]float64, n)
	}
	return m
}

func (m matrix) times(o matrix) matrix {
	out := newMatrix(len(m))
	for i := range m {
		for k, v := range m[i] {
			for j := range o[k] {
				out[i][j] += v * o[k][j]
			}
		}
	}
	return out
}

// afterOne is the chance that data is lost before the group is whole again, when one member has just failed.
func (c chain) afterOne() float64 {
	if c.m == 0 {
		return 1
	}
	// r_i = (up·r_{i+1} + down·r_{i-1} + lost) / (up+down+lost), r_0 = 0, r_{m+1} = 1: solved from the top by
	// r_i = a_i + b_i·r_{i-1}.
	a, b := make([]float64, c.m+2), make([]float64, c.m+2)
	a[c.m+1], b[c.m+1] = 1, 0
	for i := c.m; i >= 1; i-- {
		up, down, lost := c.rates(i)
		all := up + down + lost
		d := all - up*b[i+1]
		a[i], b[i] = (up*a[i+1]+lost)/d, down/d
	}
	return a[1]
}

// LossWithin is the chance that an array of groups, each of n members of size bytes surviving m losses, loses data within
// a time.
func (a Assumptions) LossWithin(groups, n, m int, size int64, d time.Duration) float64 {
	one := a.chain(n, m, size).within(d)
	return -math.Expm1(float64(groups) * math.Log1p(-min(one, 1-1e-16)))
}

// LossInRebuild is the chance that data is lost while one member that failed is rebuilt, its replacement included.
func (a Assumptions) LossInRebuild(n, m int, size int64) float64 {
	return a.chain(n, m, size).afterOne()
}
