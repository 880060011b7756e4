package judge

// Traits are what tells a disk from another, for the tests.
type Traits struct {
	ID   string
	Size int64
	Gone bool
}

// JudgedFrom judges for the tests.
func JudgedFrom(clone, original Traits, id string, size int64) string {
	return judged(traits{clone.ID, clone.Size, clone.Gone}, traits{original.ID, original.Size, original.Gone}, id,
		shown{bytes: size}).From
}
