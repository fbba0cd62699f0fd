package ar

import (
	"bytes"
	"fmt"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/archive"
	"widecrate/core/bent"
	"widecrate/core/fault"
)

func member(name, data string) string {
	m := fmt.Sprintf("%-16s%-12d%-6d%-6d%-8o%-10d`\n%s", name, 1777000000, 0, 0, 0o100644, len(data), data)
	if len(data)%2 == 1 {
		m += "\n"
	}
	return m
}

func list(data string, o archive.Options) (found []string, err error) {
	z, err := Open(bytes.NewReader([]byte(data)), int64(len(data)), o)
	if err != nil {
		return nil, err
	}
	for i, e := range z.Entries() {
		d, err := z.Open(i)
		if err != nil {
			return found, err
		}
		content, err := io.ReadAll(d)
		if err != nil {
			return found, err
		}
		found = append(found, fmt.Sprintf("%s %o %s", e.Path, e.Mode, content))
	}
	return found, z.Broken()
}

func TestRead(t *testing.T) {
	for name, c := range map[string]struct {
		data string
		want []string
	}{
		"short names":    {member("a.o/", "1") + member("b c", "22"), []string{"a.o 644 1", "b c 644 22"}},
		"table of names": {member("/", "symbols") + member("//", "a long name of an object.o/\nanother one.o/\n") + member("/28", "x") + member("/0", "y"), []string{"another one.o 644 x", "a long name of an object.o 644 y"}},
		"names in front": {member("__.SYMDEF", "s") + member("#1/20", "a name in front.o\x00\x00\x00data"), []string{"a name in front.o 644 data"}},
		"not filled up":  {member("a", "1")[:61], []string{"a 644 1"}},
		"empty":          {"", nil},
	} {
		found, err := list(magic+c.data, archive.Options{})
		require.NoError(t, err, name)
		assert.Equal(t, c.want, found, name)
	}
}

func TestDamage(t *testing.T) {
	good := magic + member("a", "12")
	for name, data := range map[string]string{
		"cut in the data":   good[:len(good)-1],
		"cut in the header": good + member("b", "")[:30],
		"no header":         good + member("b", "")[:58] + "xx",
		"size no number":    good + member("b", "")[:48] + "12x       `\n",
		"no table":          magic + member("/5", "x"),
		"name too long":     magic + member("#1/9", "x"),
	} {
		_, err := list(data, archive.Options{})
		assert.Equal(t, fault.Damaged, fault.Of(err), "%s: %v", name, err)
	}
	found, err := list(good+member("b", "123")[:61], archive.Options{Salvage: true})
	assert.Equal(t, []string{"a 644 12"}, found)
	assert.Equal(t, fault.Damaged, fault.Of(err))
}

func FuzzOpen(f *testing.F) {
	seed := magic + member("/", "s") + member("//", "long name/\n") + member("/0", "x") + member("#1/4", "namedata")
	bent.Fuzz(f, [][]byte{[]byte(seed)}, 0, nil, func(t *testing.T, data []byte) {
		if _, err := list(string(data), archive.Options{}); err != nil {
			assert.NotEqual(t, fault.Other, fault.Of(err), err)
		}
	})
}
