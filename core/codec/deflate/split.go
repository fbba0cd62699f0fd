package deflate

import "slices"

// split joins pieces of the data to blocks, as long as that saves bits: always those
// two neighbours first that save the most. Each block costs its entropy and its header.
func (e *Encoder) split() {
	pieces := e.parsed.pieces[:e.parsed.count]
	if n := len(pieces); n > 1 && pieces[n-1].tokens == 0 {
		pieces = pieces[:n-1]
	}
	var none histogram
	b := e.blocks[:0]
	for i := range pieces {
		pieces[i].cost = entropy(&pieces[i].counts, &none)
		b = append(b, &pieces[i])
	}
	saved := e.saved[:0]
	for i := range len(b) - 1 {
		saved = append(saved, saving(b[i], b[i+1]))
	}
	for len(saved) > 0 {
		best := 0
		for i, s := range saved {
			if s > saved[best] {
				best = i
			}
		}
		if saved[best] <= 0 {
			break
		}
		b[best].join(b[best+1], saved[best])
		b = slices.Delete(b, best+1, best+2)
		saved = slices.Delete(saved, best, best+1)
		if best > 0 {
			saved[best-1] = saving(b[best-1], b[best])
		}
		if best < len(saved) {
			saved[best] = saving(b[best], b[best+1])
		}
	}
	e.saved, e.blocks = saved, b
}

func (b *block) join(next *block, saved int) {
	b.cost += next.cost - saved
	b.tokens += next.tokens
	b.bytes += next.bytes
	for s, n := range next.counts {
		b.counts[s] += n
	}
}

// saving is what two blocks save as one.
func saving(a, b *block) int {
	return a.cost + b.cost - entropy(&a.counts, &b.counts)
}

// entropy is about what a block of the symbols of both takes, without extra bits, which
// are the same however it is cut.
func entropy(a, b *histogram) int {
	total := 140 << 4
	for _, alphabet := range [...][2]int{{0, distances}, {distances, symbols}} {
		from, to := alphabet[0], alphabet[1]
		more := b[from:to]
		var all uint32
		for s, n := range a[from:to] {
			if n += more[s]; n > 0 {
				all += n
				total += 51 - int(n)*log2(n) // 3.2 bits of the header
			}
		}
		if all > 0 {
			total += int(all) * log2(all)
		}
	}
	return total
}
