package capture

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"latchkey/core/disk"
	"latchkey/core/firmware"
)

// Description is the file that describes a machine to `latchkey check`.
// Documented, with its JSON schema, in docs/formats.md.
type Description struct {
	Firmware    FirmwareDescription `json:"firmware"`
	Drives      []DriveDescription  `json:"drives"`
	DeviceOrder []string            `json:"deviceOrder"`
	Until       string              `json:"until"`
	Answers     map[string]string   `json:"answers"` // to the questions of a check, by their ID
}

// FirmwareDescription holds the firmware's settings; absent ones are unknown.
type FirmwareDescription struct {
	Mode       *string `json:"mode"`
	Arch       *string `json:"arch"`
	SecureBoot *bool   `json:"secureBoot"`
	// StorageMode is the storage controller's mode now, StorageModeBefore when the
	// system last ran: ahci or raid.
	StorageMode       *string `json:"storageMode"`
	StorageModeBefore *string `json:"storageModeBefore"`
	Behaviour         string  `json:"behaviour"`
	// BootEntries is a file with the firmware's boot entries as Linux lists them, or a
	// folder of raw variables.
	BootEntries string `json:"bootEntries"`
	// Choices are the single choices of the firmware by their keys; each wins over the
	// named behaviour. They stand beside the settings.
	Choices map[string]bool `json:"-"`
}

// plainFirmware is decoded by its fields alone.
type plainFirmware FirmwareDescription

// UnmarshalJSON takes the firmware's choices by their keys, beside the settings.
func (f *FirmwareDescription) UnmarshalJSON(raw []byte) error {
	fields := map[string]json.RawMessage{}
	if err := json.Unmarshal(raw, &fields); err != nil {
		return err
	}
	choices := map[string]bool{}
	for _, c := range firmware.Choices {
		value, given := fields[c.Key]
		if !given {
			continue
		}
		delete(fields, c.Key)
		var made *bool
		if err := json.Unmarshal(value, &made); err != nil {
			return fmt.Errorf("firmware.%s is %.40s: expected true or false", c.Key, value)
		}
		if made != nil {
			choices[c.Key] = *made
		}
	}
	rest, err := json.Marshal(fields)
	if err != nil {
		return err
	}
	dec := json.NewDecoder(bytes.NewReader(rest))
	dec.DisallowUnknownFields()
	if err := dec.Decode((*plainFirmware)(f)); err != nil {
		return fmt.Errorf("firmware: %w", err)
	}
	f.Choices = choices
	return nil
}

// MarshalJSON writes the choices beside the settings.
func (f FirmwareDescription) MarshalJSON() ([]byte, error) {
	plain, err := json.Marshal(plainFirmware(f))
	if err != nil {
		return nil, err
	}
	fields := map[string]any{}
	if err := json.Unmarshal(plain, &fields); err != nil {
		return nil, err
	}
	for key, made := range f.Choices {
		fields[key] = made
	}
	return json.Marshal(fields)
}

// DriveDescription is one drive; absent facts are unknown.
type DriveDescription struct {
	Name              string  `json:"name"`
	Role              string  `json:"role"`
	File              string  `json:"file"`     // raw image, capture, or the first part of an image
	Tail              string  `json:"tail"`     // the last part, when File is not whole
	Capacity          *int64  `json:"capacity"` // bytes, when File is only the first part
	Bus               *string `json:"bus"`
	Port              *int    `json:"port"`       // of its SATA or USB controller, from 0
	Controller        *string `json:"controller"` // the way to it from the root of the PCI bus
	Attached          *bool   `json:"attached"`
	Shown             *bool   `json:"shown"`             // in the firmware's boot list
	LogicalSectorSize *int    `json:"logicalSectorSize"` // bytes; absent is 512
}

// ParseDescription decodes and checks a description without opening its files.
func ParseDescription(raw []byte) (Description, error) {
	var d Description
	dec := json.NewDecoder(bytes.NewReader(raw))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&d); err != nil {
		var syntax *json.SyntaxError
		if errors.As(err, &syntax) {
			line := 1 + bytes.Count(raw[:min(int(syntax.Offset), len(raw))], []byte("\n"))
			return d, fmt.Errorf("line %d: %w", line, err)
		}
		return d, err
	}
	if dec.More() {
		return d, errors.New("more follows after the description")
	}
	return d, d.validate()
}

func oneOf(key, value string, allowed ...string) error {
	if slices.Contains(allowed, value) {
		return nil
	}
	return fmt.Errorf("%s is %q: expected one of %q", key, value, allowed)
}

// Buses lists the buses a drive can hang on.
var Buses = []string{"sata", "nvme", "usb", "ide", "scsi", "virtio", "sd"}

func (d Description) validate() error {
	var errs []error
	add := func(err error) { errs = append(errs, err) }
	if d.Firmware.Mode != nil {
		add(oneOf("firmware.mode", *d.Firmware.Mode, "uefi", "legacy", "uefi-csm"))
	}
	if d.Firmware.Arch != nil {
		add(oneOf("firmware.arch", *d.Firmware.Arch, "x64", "ia32", "arm64"))
	}
	for key, mode := range map[string]*string{"firmware.storageMode": d.Firmware.StorageMode, "firmware.storageModeBefore": d.Firmware.StorageModeBefore} {
		if mode != nil {
			add(oneOf(key, *mode, "ahci", "raid"))
		}
	}
	if _, ok := firmware.Named(d.Firmware.Behaviour); !ok {
		add(oneOf("firmware.behaviour", d.Firmware.Behaviour, "generic", "edk2", "seabios"))
	}
	if d.Until != "" {
		add(oneOf("until", d.Until, "loader", "configuration"))
	}
	if len(d.Drives) == 0 {
		add(errors.New("drives is empty: expected at least one drive"))
	}
	names := []string{}
	for i, drive := range d.Drives {
		key := fmt.Sprintf("drives[%d]", i)
		if drive.Name == "" || slices.Contains(names, drive.Name) {
			add(fmt.Errorf("%s.name is %q: expected a name of its own", key, drive.Name))
		}
		names = append(names, drive.Name)
		add(drive.validate(key))
	}
	seen := map[string]bool{}
	for i, name := range d.DeviceOrder {
		if !slices.Contains(names, name) || seen[name] {
			add(fmt.Errorf("deviceOrder[%d] is %q: expected the name of a drive, once", i, name))
		}
		seen[name] = true
	}
	return errors.Join(errs...)
}

func (d DriveDescription) validate(key string) error {
	var errs []error
	errs = append(errs, oneOf(key+".role", d.Role, "original", "clone", "other"))
	if d.Bus != nil {
		errs = append(errs, oneOf(key+".bus", *d.Bus, Buses...))
	}
	if s := d.LogicalSectorSize; s != nil && *s != 512 && *s != 4096 {
		errs = append(errs, fmt.Errorf("%s.logicalSectorSize is %d: expected 512 or 4096", key, *s))
	}
	if p := d.Port; p != nil && (*p < 0 || *p > 255) {
		errs = append(errs, fmt.Errorf("%s.port is %d: expected 0 to 255", key, *p))
	}
	if c := d.Controller; c != nil && !firmware.Controller.MatchString(*c) {
		errs = append(errs, fmt.Errorf("%s.controller is %q: expected PCI nodes such as Pci(0x1C,0x4)/Pci(0x0,0x0)", key, *c))
	}
	if c := d.Capacity; c != nil && (*c <= 0 || *c > disk.MaxSize) {
		errs = append(errs, fmt.Errorf("%s.capacity is %d: expected a positive number of bytes, at most %d", key, *c, int64(disk.MaxSize)))
	}
	if d.File == "" && d.Tail != "" {
		errs = append(errs, fmt.Errorf("%s.tail is given without file", key))
	}
	return errors.Join(errs...)
}
