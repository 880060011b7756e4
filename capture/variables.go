package capture

import (
	"encoding/binary"
	"fmt"

	"latchkey/core/firmware"
)

// globalVariables is the vendor GUID of the boot variables. UEFI Specification 2.10,
// section 3.3.
const globalVariables = "8be4df61-93ca-11d2-aa0d-00e098032b8c"

// attributes are those that boot variables have: non-volatile, and readable before and
// after the system runs. Linux puts them before a variable's value.
const attributes = 7

// mostProbed are the entries that are asked for one by one where a system does not list
// its variables: firmware numbers them from 0 on.
const mostProbed = 0x100

// gatherVariables asks a system that does not list its firmware's variables for those
// that decide a start, by name. They are named and made up as Linux' efivarfs stores
// them; nothing where there is no order, as on legacy firmware.
func gatherVariables(read func(name, vendor string) []byte) map[string][]byte {
	all := map[string][]byte{}
	from := func(name, vendor string) []byte {
		value := read(name, vendor)
		if value != nil {
			all[name+"-"+vendor] = append(binary.LittleEndian.AppendUint32(nil, attributes), value...)
		}
		return value
	}
	take := func(name string) []byte { return from(name, globalVariables) }
	order, next := take("BootOrder"), take("BootNext")
	if order == nil {
		return nil
	}
	numbers := map[uint16]bool{}
	for n := range uint16(mostProbed) {
		numbers[n] = true
	}
	for _, list := range [][]byte{order, next} {
		for i := 0; i+1 < len(list); i += 2 {
			numbers[binary.LittleEndian.Uint16(list[i:])] = true
		}
	}
	for n := range numbers {
		take(fmt.Sprintf("Boot%04X", n))
	}
	for _, name := range firmware.LoaderVariables {
		from(name, firmware.LoaderVendor)
	}
	for _, v := range firmware.TrustVariables {
		from(v[0], v[1])
	}
	return all
}
