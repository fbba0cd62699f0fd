package deflate

// lazy takes a match unless a better one begins a byte or two further on.
func (e *Encoder) lazy(data []byte, at int) {
	p := &e.prices
	p.begin(data[at:])
	for at < len(data) {
		m := e.take(at, 0, e.candidates)
		if m.length == 0 {
			e.add(token(data[at]))
			at++
			continue
		}
		looked := 1 // how many places from at on are known
		for ahead := 1; ahead <= len(e.waits) && m.length < e.waits[ahead-1]; ahead++ {
			next := e.take(at+ahead, m.length-1, max(1, e.candidates/(e.ahead*ahead)))
			looked++
			if next.length == 0 {
				continue
			}
			gain := p.gain(next) - p.gain(m)
			for _, c := range data[at : at+ahead] {
				gain += p.worth - int(p.bytes[c])
			}
			if gain > 0 {
				for _, c := range data[at : at+ahead] {
					e.add(token(c))
				}
				at, m, looked, ahead = at+ahead, next, 1, 0
			}
		}
		e.finder.pass(at+looked, at+m.length)
		e.add(match(m.length, m.distance))
		at += m.length
	}
}

// weighed is up to which length a match is weighed against its bytes.
const weighed = 6

// take finds a match that costs less than its bytes.
func (e *Encoder) take(at, least, candidates int) found {
	m := e.finder.find(at, least, candidates, e.enough, nil)
	if m.length == 0 || m.length > weighed {
		return m
	}
	plain := 0
	for _, c := range e.finder.data[at : at+m.length] {
		plain += int(e.prices.bytes[c])
	}
	if e.prices.match(m) >= plain {
		return found{}
	}
	return m
}

// add adds a token, and learns from each full piece of them.
func (e *Encoder) add(t token) {
	if e.parsed.add(t) {
		e.prices.learn(e.parsed.piece)
		e.parsed.next()
	}
}
