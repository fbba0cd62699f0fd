package codec

import "io"

// Bytes is a Source of bytes in memory: none, until Reset.
type Bytes struct{ rest []byte }

// Reset makes it a source of b.
func (s *Bytes) Reset(b []byte) { s.rest = b }

// Read is that of io.Reader.
func (s *Bytes) Read(p []byte) (int, error) {
	n := copy(p, s.rest)
	s.rest = s.rest[n:]
	if n == 0 && len(p) > 0 {
		return 0, io.EOF
	}
	return n, nil
}

// ReadByte is that of io.ByteReader.
func (s *Bytes) ReadByte() (byte, error) {
	if len(s.rest) == 0 {
		return 0, io.EOF
	}
	c := s.rest[0]
	s.rest = s.rest[1:]
	return c, nil
}

// WriteTo is that of io.WriterTo.
func (s *Bytes) WriteTo(w io.Writer) (int64, error) {
	if len(s.rest) == 0 {
		return 0, nil
	}
	n, err := w.Write(s.rest)
	s.rest = s.rest[n:]
	return int64(n), err
}

// Buffered is how many bytes are left.
func (s *Bytes) Buffered() int { return len(s.rest) }

// Peek returns the next n bytes, or all and io.EOF.
func (s *Bytes) Peek(n int) ([]byte, error) {
	if n > len(s.rest) {
		return s.rest, io.EOF
	}
	return s.rest[:n], nil
}

// Discard skips n bytes, or all and returns io.EOF.
func (s *Bytes) Discard(n int) (int, error) {
	if n > len(s.rest) {
		n = len(s.rest)
		s.rest = nil
		return n, io.EOF
	}
	s.rest = s.rest[n:]
	return n, nil
}
