package diskmaker

import "encoding/binary"

// Registry declares the SYSTEM hive of a Windows, so far as a start asks for it.
type Registry struct {
	Starts    map[string]uint32 // start types of services
	Overrides map[string]uint32 // their StartOverride
	C         Place             // the partition that the letter C: was given to
	Portable  bool
	// Unsaved has it say what Windows' log still changes.
	Unsaved bool
}

// RegistryPath is where the hive lies.
const RegistryPath = `\Windows\System32\config\SYSTEM`

// Bytes writes the hive.
func (r Registry) Bytes() []byte {
	number := func(n uint32) Value { return Value{4, binary.LittleEndian.AppendUint32(nil, n)} }
	services := map[string]*Key{}
	for name, start := range r.Starts {
		services[name] = &Key{Values: map[string]Value{"Start": number(start)}}
		if over, ok := r.Overrides[name]; ok {
			services[name].Keys = map[string]*Key{"StartOverride": {Values: map[string]Value{"0": number(over)}}}
		}
	}
	control := &Key{Values: map[string]Value{}}
	if r.Portable {
		control.Values["PortableOperatingSystem"] = number(1)
	}
	mounted := &Key{Values: map[string]Value{}}
	switch {
	case r.C.Signature != 0:
		mounted.Values[`\DosDevices\C:`] = Value{3, binary.LittleEndian.AppendUint64(binary.LittleEndian.AppendUint32(nil,
			r.C.Signature), r.C.Start)}
	case !r.C.Partition.IsZero():
		mounted.Values[`\DosDevices\C:`] = Value{3, append([]byte("DMIO:ID:"), r.C.Partition[:]...)}
	}
	raw := (&Key{Keys: map[string]*Key{
		"Select":         {Values: map[string]Value{"Current": number(1)}},
		"ControlSet001":  {Keys: map[string]*Key{"Services": {Keys: services}, "Control": control}},
		"MountedDevices": mounted,
	}}).Bytes()
	if r.Unsaved { // its second sequence number, and the sum over it
		raw[8] ^= 3
		raw[508] ^= 3
	}
	return raw
}

// WindowsFiles are those of a Windows that its start loads: loaders and kernel, each a program, and
// the registry.
func WindowsFiles(program []byte, r Registry) map[string][]byte {
	files := map[string][]byte{RegistryPath: r.Bytes()}
	for _, name := range []string{"winload.efi", "winload.exe", "ntoskrnl.exe"} {
		files[`\Windows\System32\`+name] = program
	}
	return files
}
