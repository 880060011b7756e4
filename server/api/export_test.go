package api

import "maps"

// Meanings is what the description says of the rules' own fields, but for those that are
// named by a reference alone.
func Meanings() map[string]string {
	said := maps.Clone(meanings)
	delete(said, "machine.Contradiction.Stronger")
	return said
}

// Values lists the values of single fields.
func Values() map[string][]any { return valuesAt }
