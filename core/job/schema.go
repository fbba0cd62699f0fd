package job

import (
	"encoding/json"
	"math"
	"strconv"
)

// object is one of JSON.
type object = map[string]any

// filled is what a text is that has variables in it: what they make of it, is known
// when they are.
var filled = object{"type": "string", "pattern": `\$`}

// Schema is the JSON Schema (draft 2020-12) of job files, for editors and for checks
// outside. What it refuses, Parse refuses, too; what depends on several keys or on
// variables, only Parse knows.
func (l *Language) Schema() ([]byte, error) {
	commands, defaults := object{}, object{}
	var one []any
	for _, c := range l.Commands {
		keys := object{}
		for _, k := range c.Keys {
			keys[k.Name] = k.schema()
		}
		commands[c.Name] = object{"description": c.Help, "type": []string{"object", "null"}, "additionalProperties": false, "properties": keys}
		defaults[c.Name] = object{"allOf": []any{object{"$ref": "#/$defs/" + c.Name}, object{"type": "object"}}}
		one = append(one, object{"required": []string{c.Name}})
	}
	variable := object{"pattern": wholeName.String()}
	text := object{"$ref": "#/$defs/text"}
	job := object{
		nameKey:    text,
		followsKey: object{"description": "jobs before this one, all of which must be done", "anyOf": []any{text, object{"type": "array", "items": text}}},
		evenIfKey:  object{"description": "run it also after a job that it follows has failed", "enum": []any{evenIfFailed}},
		needsKey:   object{"description": "how much of its archives must succeed", "type": "string", "pattern": `^0*([1-9][0-9]?|100)%$`},
		repeatKey: object{"description": "run it once for each value, or each combination of several", "type": "object", "minProperties": 1, "propertyNames": variable,
			"additionalProperties": object{"type": "array", "items": text, "minItems": 1}},
	}
	for _, c := range l.Commands {
		job[c.Name] = object{"$ref": "#/$defs/" + c.Name}
	}
	file := object{
		versionKey: object{"enum": []any{1, "1"}, "description": "the version of job files"},
		varsKey: object{"description": "variables, used as ${name}", "type": "object", "propertyNames": variable,
			"additionalProperties": text},
		envKey:      object{"description": "variables of the environment that are used", "type": "array", "items": object{"type": "string", "pattern": wholeName.String()}},
		defaultsKey: object{"description": "the options of all jobs with a command that do not set them", "type": "object", "additionalProperties": false, "properties": defaults},
		jobsKey: object{"type": "array", "minItems": 1, "items": object{"type": "object", "additionalProperties": false, "required": []string{nameKey},
			"properties": job, "oneOf": one}},
	}
	for _, k := range l.Common {
		file[k.Name] = k.schema()
	}
	defs := commands
	value := object{"$ref": "#/$defs/value"}
	defs["text"] = object{"type": []string{"string", "number", "boolean"}}
	defs["value"] = object{"type": []string{"string", "number", "boolean"}, "minLength": 1}
	defs["texts"] = object{"anyOf": []any{value, object{"type": "array", "items": value, "minItems": 1}}}
	defs["switch"] = object{"anyOf": []any{object{"type": "boolean"}, filled}}
	defs["rows"] = object{"anyOf": []any{value, object{"type": "array", "minItems": 1,
		"items": object{"type": "array", "items": value, "minItems": 2, "maxItems": 2}}}}
	b, err := json.MarshalIndent(object{
		"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "A job file of widecrate",
		"type": "object", "additionalProperties": false, "required": []string{versionKey, jobsKey},
		"properties": file, "$defs": defs,
	}, "", "  ")
	return append(b, '\n'), err
}

// schema is that of a value.
func (k *Key) schema() object {
	var s object
	switch k.Form {
	case Texts:
		s = object{"$ref": "#/$defs/texts"}
	case Switch:
		s = object{"$ref": "#/$defs/switch"}
	case Rows:
		s = object{"$ref": "#/$defs/rows"}
	case Number:
		digits := `^[0-9]+$`
		if k.Least > 0 {
			digits = `^0*[1-9][0-9]*$`
		}
		s = object{"anyOf": []any{object{"type": "integer", "minimum": k.Least, "maximum": int64(math.MaxInt64)}, object{"type": "string", "pattern": digits}, filled}}
	case Word:
		words := make([]any, len(k.Words))
		for i, word := range k.Words {
			words[i] = word
		}
		for _, word := range k.Words { // which YAML takes for a number
			if n, err := strconv.Atoi(word); err == nil {
				words = append(words, n)
			}
		}
		s = object{"anyOf": []any{object{"enum": words}, filled}}
	default:
		s = object{"$ref": "#/$defs/value"}
		if k.Words != nil {
			s = object{"anyOf": []any{object{"enum": k.Words}, s}}
		}
	}
	s["description"] = k.Help
	return s
}
