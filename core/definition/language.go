package definition

import (
	"fmt"
	"maps"
	"slices"

	"golang.org/x/text/language"
)

// Wording is what a definition says in another language than its own. What is left out is said in its own.
type Wording struct {
	Title       string                  `json:"title,omitempty"`
	Description string                  `json:"description,omitempty"`
	Fields      map[string]FieldWording `json:"fields,omitempty"`
	Attention   map[string]string       `json:"attention,omitempty" doc:"By what is said of a record in the definition's own language."`
}

// FieldWording is what is said of one field.
type FieldWording struct {
	Title       string            `json:"title,omitempty"`
	Description string            `json:"description,omitempty"`
	Choices     map[string]string `json:"choices,omitempty" doc:"How choices are shown, by the value that is kept."`
	Parts       map[string]string `json:"parts,omitempty" doc:"Titles of the parts of a nested field, by their names."`
}

// MostLanguages bounds what a definition says over and over: it travels to every device.
const MostLanguages = 20

func (d Definition) checkLanguages() error {
	if len(d.Languages) > MostLanguages {
		return &ruleError{[]string{"languages"}, fmt.Errorf("there are %d languages: take at most %d", len(d.Languages), MostLanguages)}
	}
	for _, tag := range slices.Sorted(maps.Keys(d.Languages)) {
		at := []string{"languages", tag}
		if _, err := language.Parse(tag); err != nil {
			return &ruleError{at, fmt.Errorf("%q is no language: write de, pt-BR or the like (BCP 47)", tag)}
		}
		for _, name := range slices.Sorted(maps.Keys(d.Languages[tag].Fields)) {
			field, known := d.Field(name)
			if !known {
				return &ruleError{append(at, "fields", name), fmt.Errorf("%q is not a field of the collection%s", name, Nearest(name, fieldNames(d)))}
			}
			choices := field.Shape().Choices()
			for _, value := range slices.Sorted(maps.Keys(d.Languages[tag].Fields[name].Choices)) {
				if !slices.Contains(choices, value) {
					return &ruleError{append(at, "fields", name), fmt.Errorf("%q is not one of the choices of %s%s", value, name, Nearest(value, choices))}
				}
			}
		}
		said := make([]string, len(d.Attention))
		for n, one := range d.Attention {
			said[n] = one.Say
		}
		for _, word := range slices.Sorted(maps.Keys(d.Languages[tag].Attention)) {
			if !slices.Contains(said, word) {
				return &ruleError{append(at, "attention"), fmt.Errorf("%q is not said of any record%s", word, Nearest(word, said))}
			}
		}
	}
	return nil
}
