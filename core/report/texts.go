package report

import (
	"bytes"
	"encoding/json"
	"io"
	"reflect"
	"strings"
	"unicode/utf8"

	"widecrate/core/fault"
)

// besideText is added to the name of a text that is no UTF-8, which JSON cannot hold
// (RFC 8259, section 8.1), for its bytes in base64.
const besideText = "_bytes"

// Encoder writes events as JSON Lines.
type Encoder struct {
	To  io.Writer
	Say fault.Wording // of what can be done about errors
}

// Encode writes the lines of an event.
func (e Encoder) Encode(event Event) error {
	for l := range event.Lines() {
		line, err := e.line(l)
		if err != nil {
			return err
		}
		if _, err := e.To.Write(append(line, '\n')); err != nil {
			return err
		}
	}
	return nil
}

// line is a line: its kind, its fields, its failure.
func (e Encoder) line(l Line) ([]byte, error) {
	b, err := Marshal(struct {
		Kind string `json:"kind"`
	}{l.Kind})
	join := func(fields any) {
		var more []byte
		if err == nil {
			more, err = Marshal(fields)
		}
		if err == nil {
			b = append(append(b[:len(b)-1], ','), more[1:]...)
		}
	}
	if l.Fields != nil {
		join(l.Fields)
	}
	if l.Err != nil {
		join(struct {
			Failure *Failure `json:"failure"`
		}{FailureOf(l.Err, e.Say)})
	}
	return b, err
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
			field := v.Type().Field(i)
			name, _, _ := strings.Cut(field.Tag.Get("json"), ",")
			switch {
			case field.Anonymous && name == "":
				for name, text := range texts(v.Field(i)) {
					if !yield(name, text) {
						return
					}
				}
			case v.Field(i).Kind() == reflect.String && name != "" && !yield(name, v.Field(i)):
				return
			}
		}
	}
}
