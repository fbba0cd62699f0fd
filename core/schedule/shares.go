package schedule

import (
	"cmp"
	"slices"
)

// Long is the size, in bytes, from which a thing is one that the work on others
// should not have to wait for.
const Long = 16 << 20

// A share of small things is so much: enough that handing it out costs nothing,
// little enough that two workers share a small archive.
const (
	shareThings = 64
	shareBytes  = 1 << 20
)

// Shares divides n things among workers, who take one share after the other: long
// ones each on its own, the longest first, so that nobody is left with one at the
// end; then all others, in their order.
func Shares(n int, size func(i int) int64) [][]int {
	var long, shares [][]int
	small := make([]int, 0, n)
	from, bytes := 0, int64(0)
	cut := func() {
		if from < len(small) {
			shares = append(shares, small[from:])
		}
		from, bytes = len(small), 0
	}
	for i := range n {
		if size(i) >= Long {
			long = append(long, []int{i})
			continue
		}
		small = append(small, i)
		if bytes += size(i); bytes >= shareBytes || len(small)-from == shareThings {
			cut()
		}
	}
	cut()
	slices.SortStableFunc(long, func(a, b []int) int { return cmp.Compare(size(b[0]), size(a[0])) })
	return append(long, shares...)
}
