package diskmaker

import "encoding/binary"

// Registry declares the SYSTEM hive of a Windows, so far as a start asks for it.
type Registry struct {
	Starts    map[string]uint32 // start types of services
	Overrides map[string]uint32 // their StartOverride
	C         Place             // the partition that the letter C: was given to
	Portable  bool
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
	return (&Key{Keys: map[string]*Key{
		"Select":         {Values: map[string]Value{"Current": number(1)}},
		"ControlSet001":  {Keys: map[string]*Key{"Services": {Keys: services}, "Control": control}},
		"MountedDevices": mounted,
	}}).Bytes()
}
