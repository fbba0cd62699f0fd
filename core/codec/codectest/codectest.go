// Package codectest packs by the methods that are only read, for tests: simply, and so that
// all that a stream can say is in it.
package codectest

// writer takes numbers of some bits, the lowest bit first.
type writer struct {
	out  []byte
	bits uint64
	n    uint
}

func (w *writer) put(value int, n uint) {
	w.bits |= uint64(value) << w.n
	for w.n += n; w.n >= 8; w.n -= 8 {
		w.out = append(w.out, byte(w.bits))
		w.bits >>= 8
	}
}

// bytes fills up the last byte.
func (w *writer) bytes() []byte {
	if w.n > 0 {
		w.put(0, 8-w.n)
	}
	return w.out
}

// str is a string that has a code: the code of it without its last byte, and that byte.
type str struct {
	prefix int
	last   byte
}

// Shrink packs by section 5.1 of the .ZIP File Format Specification. A full table is cleared
// in part at once.
func Shrink(data []byte) []byte {
	const escape, wider, clear, codes = 256, 1, 2, 1 << 13
	w, width := &writer{}, uint(9)
	table, of := map[str]int{}, map[int]str{} // both ways
	free := make([]int, 0, codes)
	for code := escape + 1; code < codes; code++ {
		free = append(free, code)
	}
	code := -1
	emit := func() {
		for ; code>>width > 0; width++ {
			w.put(escape, width)
			w.put(wider, width)
		}
		w.put(code, width)
	}
	for _, c := range data {
		if code < 0 {
			code = int(c)
			continue
		}
		if longer, known := table[str{code, c}]; known {
			code = longer
			continue
		}
		emit()
		if len(free) == 0 {
			w.put(escape, width)
			w.put(clear, width)
			prefixes := map[int]bool{}
			for s := range table {
				prefixes[s.prefix] = true
			}
			for code := escape + 1; code < codes; code++ {
				if !prefixes[code] {
					delete(table, of[code])
					free = append(free, code)
				}
			}
		}
		table[str{code, c}], of[free[0]] = free[0], str{code, c}
		free = free[1:]
		code = int(c)
	}
	if code >= 0 {
		emit()
	}
	return w.bytes()
}

// Compress packs as the POSIX utility compress does, with codes of up to so many bits. In block
// mode the table starts anew some time after it is full.
func Compress(data []byte, most uint, block bool) []byte {
	const clear, least = 256, 9
	head := byte(most)
	next, first := 256, 256
	if block {
		head |= 0x80
		next, first = 257, 257
	}
	w, width, inGroup := &writer{}, uint(least), 0
	table := map[str]int{}
	align := func() {
		for ; inGroup%8 != 0; inGroup++ {
			w.put(0, width)
		}
	}
	emit := func(code int) {
		w.put(code, width)
		inGroup++
		if next >= 1<<width && (width < most || most == least && width == least) {
			align()
			width++
		}
	}
	code, full := -1, 0
	for _, c := range data {
		if code < 0 {
			code = int(c)
			continue
		}
		if longer, known := table[str{code, c}]; known {
			code = longer
			continue
		}
		emit(code)
		if next < 1<<most {
			table[str{code, c}] = next
			next++
		} else if full++; block && full == 5000 {
			emit(clear)
			align()
			table, next, width, full = map[str]int{}, first, least, 0
		}
		code = int(c)
	}
	if code >= 0 {
		emit(code)
	}
	return append([]byte{0x1f, 0x9d, head}, w.bytes()...)
}
