package realmode

import "strings"

// complaints are words in the messages of boot code that found nothing to start.
// Common practice: those of the operating systems' own codes and of free ones.
var complaints = []string{"partition table", "operating system", "no active", "active partition", "not bootable", "not a bootable", "bootable partition", "missing", "error", "not found", "no bootable"}

// Complaint returns what the code said when it gave up, and whether it did.
func (r *Run) Complaint() (message string, complains bool) {
	if r.End == PassesOn {
		return "", false
	}
	message = strings.Join(strings.Fields(r.Output), " ")
	for _, words := range complaints {
		if strings.Contains(strings.ToLower(message), words) {
			return message, true
		}
	}
	return message, false
}
