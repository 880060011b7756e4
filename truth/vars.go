package truth

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"sort"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/internal/diskmaker"
)

// Layout of edk2's variable store: MdeModulePkg/Include/Guid/VariableFormat.h
// and MdePkg/Include/Pi/PiFirmwareVolume.h.
const (
	volumeHeaderLength = 48 // offset of HeaderLength in the firmware volume's header
	storeHeader        = 28
	recordHeader       = 60 // AUTHENTICATED_VARIABLE_HEADER
	recordStart        = 0x55AA
	recordAdded        = 0x3F
	recordDeleted      = 0xFD
)

var authenticatedStore = disk.MustGUID("AAF32C78-947B-439A-A180-2E144EC37792")

// withVariables returns a copy of a firmware's variable store with boot variables
// in it. A record of one name that is there already is marked deleted: two live
// ones stop the firmware without a word.
func withVariables(store []byte, vars map[string][]byte) ([]byte, error) {
	b := bytes.Clone(store)
	le := binary.LittleEndian
	at, end, err := records(b)
	if err != nil {
		return nil, err
	}
	for at+recordHeader <= end && le.Uint16(b[at:]) == recordStart {
		nameLen, dataLen := int(le.Uint32(b[at+36:])), int(le.Uint32(b[at+40:]))
		if _, again := vars[narrow(b[at+recordHeader:at+recordHeader+nameLen])]; again {
			b[at+2] &= recordDeleted
		}
		at = align(at + recordHeader + nameLen + dataLen)
	}
	names := make([]string, 0, len(vars))
	for name := range vars {
		names = append(names, name)
	}
	sort.Strings(names)
	for _, name := range names {
		r := record(name, vars[name])
		if at+len(r) > end {
			return nil, fmt.Errorf("no room for %s in the variable store", name)
		}
		copy(b[at:], r)
		at = align(at + len(r))
	}
	return b, nil
}

// records tells where the records of a firmware's variable store begin, and where their room ends.
func records(store []byte) (at, end int, err error) {
	le := binary.LittleEndian
	if len(store) < 0x1000 || string(store[40:44]) != "_FVH" {
		return 0, 0, errors.New("the variable file is no firmware volume")
	}
	head := int(le.Uint16(store[volumeHeaderLength:]))
	if !bytes.Equal(store[head:head+16], authenticatedStore[:]) {
		return 0, 0, errors.New("the variable store is none of authenticated variables")
	}
	return head + storeHeader, head + int(le.Uint32(store[head+16:])), nil
}

// holds is a variable of a store, nil for none.
func holds(store []byte, name string) []byte {
	le := binary.LittleEndian
	at, end, err := records(store)
	for err == nil && at+recordHeader <= end && le.Uint16(store[at:]) == recordStart {
		nameLen, dataLen := int(le.Uint32(store[at+36:])), int(le.Uint32(store[at+40:]))
		data := at + recordHeader + nameLen
		if store[at+2] == recordAdded && narrow(store[at+recordHeader:data]) == name {
			return store[data : data+dataLen]
		}
		at = align(data + dataLen)
	}
	return nil
}

// store reads the variable store that a firmware comes with.
func (f Firmware) store() ([]byte, error) {
	_, path := f.files()
	b, err := os.ReadFile(path)
	if err != nil || f != AAVMF {
		return b, err
	}
	at, end, err := records(b) // that with keys: the other one has no store in it yet
	if err != nil {
		return nil, err
	}
	for i := range b[at:end] {
		b[at+i] = 0xFF // as flash memory is when it was erased
	}
	return b, nil
}

func align(n int) int { return (n + 3) &^ 3 }

func narrow(wide []byte) string {
	var s []byte
	for i := 0; i+1 < len(wide) && wide[i] != 0; i += 2 {
		s = append(s, wide[i])
	}
	return string(s)
}

func record(name string, data []byte) []byte {
	le := binary.LittleEndian
	r := make([]byte, recordHeader)
	le.PutUint16(r, recordStart)
	r[2] = recordAdded
	le.PutUint32(r[4:], 7) // non-volatile, boot service and run-time access
	wide := []byte{}
	for _, c := range name + "\x00" {
		wide = le.AppendUint16(wide, uint16(c))
	}
	le.PutUint32(r[36:], uint32(len(wide)))
	le.PutUint32(r[40:], uint32(len(data)))
	vendor := vendorOf(name)
	copy(r[44:], vendor[:])
	return append(append(r, wide...), data...)
}

// vendorOf is the vendor of a variable, by its name: a boot loader's, or the firmware's own.
func vendorOf(name string) disk.GUID {
	if strings.HasPrefix(name, "Loader") {
		return disk.MustGUID(firmware.LoaderVendor)
	}
	return diskmaker.BootVariableVendor
}
