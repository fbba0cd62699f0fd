package main

import (
	"bufio"
	"bytes"
	"io"

	"widecrate/core/codec/codectest"
	"widecrate/core/codec/lzw"
)

// compressed is what the POSIX utility compress writes, beside a plain loop over a map of strings.
var compressed = stream{
	pack: func(to io.Writer) io.WriteCloser { return &atOnce{to: to} },
	theirs: func(r io.Reader) io.Reader {
		packed, err := io.ReadAll(r)
		must(err)
		return bytes.NewReader(plainLZW(packed[lzw.HeaderLength:]))
	},
	ours: func(r io.Reader) io.Reader {
		d, err := lzw.NewReader(bufio.NewReaderSize(r, 256<<10))
		must(err)
		return d
	},
}

// atOnce packs all that was written when it is closed.
type atOnce struct {
	bytes.Buffer
	to io.Writer
}

func (a *atOnce) Close() error {
	_, err := a.to.Write(codectest.Compress(a.Bytes(), 16, true))
	return err
}

// plainLZW decodes codes of 9 to 16 bits in block mode, as one would write it down.
func plainLZW(packed []byte) (out []byte) {
	const clear, most = 256, 16
	table := map[int]string{}
	start := func() {
		for i := range clear {
			table[i] = string([]byte{byte(i)})
		}
	}
	start()
	width, next, group, before, bit := 9, clear+1, 0, "", 0
	align := func() {
		for ; group%8 != 0; group++ {
			bit += width
		}
	}
	for {
		if next >= 1<<width && width < most {
			align()
			width++
		}
		if bit+width > 8*len(packed) {
			return out
		}
		code := 0
		for i := range width {
			code |= int(packed[(bit+i)/8]) >> ((bit + i) % 8) & 1 << i
		}
		bit += width
		if group++; code == clear {
			align()
			width, next, before, table = 9, clear+1, "", map[int]string{}
			start()
			continue
		}
		text, known := table[code]
		if !known {
			text = before + before[:1]
		}
		out = append(out, text...)
		if before != "" && next < 1<<most {
			table[next] = before + text[:1]
			next++
		}
		before = text
	}
}
