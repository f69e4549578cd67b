package advice

import "math"

// Samples is the distribution of durations, in buckets of which four make a
// doubling, from 1 ms: bucket b holds durations from 2^(b/4) ms to 2^((b+1)/4)
// ms. A quantile is therefore right within 9 %.
type Samples struct {
	N       int
	Sum     float64 // seconds
	Buckets map[int]int
}

// lastBucket also holds everything longer: above 40 days.
const lastBucket = 127

// Bucket returns the bucket of a duration in seconds.
func Bucket(seconds float64) int {
	if !(seconds > 0.001) {
		return 0
	}
	return min(lastBucket, int(math.Floor(4*math.Log2(seconds/0.001))))
}

// Middle returns the duration in seconds in the middle, by ratio, of a bucket.
func Middle(bucket int) float64 { return 0.001 * math.Exp2((float64(bucket)+0.5)/4) }

// Add adds durations that are in one bucket.
func (s *Samples) Add(bucket, n int, sum float64) {
	if s.Buckets == nil {
		s.Buckets = map[int]int{}
	}
	s.Buckets[bucket] += n
	s.N += n
	s.Sum += sum
}

// Quantile returns the duration in seconds below which that part of the samples
// is; 0 if there are none.
func (s Samples) Quantile(part float64) float64 {
	if s.N == 0 {
		return 0
	}
	rank := int(math.Ceil(part * float64(s.N)))
	for b := 0; b <= lastBucket; b++ {
		if rank -= s.Buckets[b]; rank <= 0 && s.Buckets[b] > 0 {
			return Middle(b)
		}
	}
	return Middle(lastBucket)
}

// Median returns the median duration in seconds.
func (s Samples) Median() float64 { return s.Quantile(0.5) }
