package firmware

import "strings"

// LoaderMenu is what systemd-boot keeps in the firmware's variables of which entry of its menu
// it starts; "" is not set. The UAPI Group's Boot Loader Interface, "LoaderEntryDefault".
type LoaderMenu struct {
	Once    string // at the next start alone
	Default string // chosen in the menu
	Last    string // started last
}

// LoaderVendor is the vendor GUID of a boot loader's variables. The Boot Loader Interface.
const LoaderVendor = "4a67b082-0a4c-41cf-b6c7-440b29bb8c4f"

// LoaderVariables are the names of those that decide a start.
var LoaderVariables = []string{"LoaderEntryOneShot", "LoaderEntryDefault", "LoaderEntryLastBooted"}

// isLoaderVariable reports whether a file, in small letters, is named as Linux' efivarfs names one
// of them, and which.
func isLoaderVariable(file string) (at int, is bool) {
	for i, name := range LoaderVariables {
		if file == strings.ToLower(name)+"-"+LoaderVendor {
			return i, true
		}
	}
	return 0, false
}

// set takes a variable's contents over.
func (m *LoaderMenu) set(at int, text string) {
	*[]*string{&m.Once, &m.Default, &m.Last}[at] = strings.TrimRight(text, "\x00")
}
