package report

import (
	"bytes"
	"encoding/json"
	"io"
	"reflect"
	"strings"
	"unicode/utf8"
)

// besideText is added to the name of a text that is no UTF-8, which JSON cannot hold
// (RFC 8259, section 8.1), for its bytes in base64.
const besideText = "_bytes"

// Encoder writes values as JSON Lines.
type Encoder struct{ To io.Writer }

// Encode writes a value as a line.
func (e Encoder) Encode(v any) error {
	b, err := Marshal(v)
	if err == nil {
		_, err = e.To.Write(append(b, '\n'))
	}
	return err
}

// Marshal is a value as JSON. Texts of a structure that are no UTF-8, as names of files
// may be, have their bytes beside them.
func Marshal(v any) ([]byte, error) {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	if err := enc.Encode(v); err != nil {
		return nil, err
	}
	line := bytes.TrimSuffix(b.Bytes(), []byte("\n"))
	if !bytes.Contains(line, []byte(`\ufffd`)) { // which stands for such bytes
		return line, nil
	}
	for name, field := range texts(reflect.ValueOf(v)) {
		if utf8.ValidString(field.String()) {
			continue
		}
		value, err := json.Marshal([]byte(field.String()))
		if err != nil {
			return nil, err
		}
		line = append(append(append(line[:len(line)-1], `,"`+name+besideText+`":`...), value...), '}')
	}
	return line, nil
}

// Unmarshal reads what Marshal wrote into the structure that v points to.
func Unmarshal(line []byte, v any) error {
	if err := json.Unmarshal(line, v); err != nil || !bytes.Contains(line, []byte(besideText+`":"`)) {
		return err
	}
	var all map[string]json.RawMessage
	if err := json.Unmarshal(line, &all); err != nil {
		return err
	}
	for name, field := range texts(reflect.ValueOf(v)) {
		value, beside := all[name+besideText]
		if !beside {
			continue
		}
		var b []byte
		if err := json.Unmarshal(value, &b); err != nil {
			return err
		}
		field.SetString(string(b))
	}
	return nil
}

// texts are the fields of a structure that are texts, by their names in JSON.
func texts(v reflect.Value) func(yield func(string, reflect.Value) bool) {
	return func(yield func(string, reflect.Value) bool) {
		v = reflect.Indirect(v)
		if v.Kind() != reflect.Struct {
			return
		}
		for i := range v.NumField() {
			name, _, _ := strings.Cut(v.Type().Field(i).Tag.Get("json"), ",")
			if v.Field(i).Kind() == reflect.String && name != "" && !yield(name, v.Field(i)) {
				return
			}
		}
	}
}
