package deflate

// prices are what symbols cost, in sixteenths of a bit, extra bits included.
type prices struct {
	bytes     [256]uint16
	lengths   [longest + 1]uint16
	distances [32]uint16
	steps     [256]step         // bytes as steps
	matches   [longest + 1]step // lengths, to be added to the step of a distance
	counts    histogram         // that they are made of, the older ones for less
	average   int               // of a byte of the data
	worth     int               // of a byte that is covered by a match: somewhat more
}

func (p *prices) match(m found) int {
	return int(p.lengths[m.length]) + int(p.distances[distanceSymbol(token(m.distance-1))])
}

// gain is what a match is worth in the place of its bytes.
func (p *prices) gain(m found) int { return m.length*p.worth - p.match(m) }

// set makes the prices from counts.
func (p *prices) set(counts *histogram) {
	var first, second uint32
	for _, n := range counts[:distances] {
		first += n
	}
	for _, n := range counts[distances:] {
		second += n
	}
	// What did not occur costs what half an occurrence would.
	whole := log2(2*first + 2)
	price := func(n uint32) uint16 { return uint16(max(8, whole-log2(max(1, 2*n)))) }
	for c := range p.bytes {
		p.bytes[c] = price(counts[c])
		p.steps[c] = cost(p.bytes[c], token(c))
	}
	for s, of := range lengthSpans {
		v := price(counts[lengths+s]) + uint16(of.extra)<<4
		for n := range min(1<<of.extra, longest+1-int(of.base)) {
			length := int(of.base) + n
			p.lengths[length] = v
			p.matches[length] = cost(v, token(length-shortest)<<15)
		}
	}
	whole = log2(2*second + 2)
	for s, of := range distanceSpans {
		p.distances[s] = price(counts[distances+s]) + uint16(of.extra)<<4
	}
}

// begin makes prices for data of which nothing is known but its bytes.
func (p *prices) begin(data []byte) {
	p.counts = histogram{}
	for _, c := range data[:min(len(data), 4096)] {
		p.counts[c]++
	}
	for s := range lengthSpans {
		p.counts[lengths+s] = 4
	}
	for s := range distanceSpans {
		p.counts[distances+s] = 1
	}
	p.set(&p.counts)
	p.expect(4 << 4)
}

// learn adjusts them by what a piece was made of.
func (p *prices) learn(b *block) {
	for s, n := range b.counts {
		p.counts[s] = p.counts[s]/2 + n
	}
	p.set(&p.counts)
	spent := 0
	for s, n := range b.counts[:256] {
		spent += int(n) * int(p.bytes[s])
	}
	for s, of := range lengthSpans {
		spent += int(b.counts[lengths+s]) * int(p.lengths[of.base])
	}
	for s := range distanceSpans {
		spent += int(b.counts[distances+s]) * int(p.distances[s])
	}
	p.expect((p.average + spent/max(1, b.bytes)) / 2)
}

// expect sets what a byte costs on average. The matches of a longer one are longer, too:
// a byte more is worth more than that (7/4 was found to be best, on eight kinds of data).
func (p *prices) expect(average int) { p.average, p.worth = average, average*7/4 }
