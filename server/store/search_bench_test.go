package store_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"latchkey/server/store"
	"latchkey/server/store/storetest"
)

// BenchmarkSearch finds cases among 10,000 by what few, many and all of them hold.
func BenchmarkSearch(b *testing.B) {
	s := storetest.Open(b)
	for i := range 10_000 {
		c := &store.Case{Title: fmt.Sprintf("Kiosk %d", i), Machine: fmt.Sprintf("Fenmark D%d, pier %d", i%20, i%7),
			Drives: []store.Drive{{Role: "original", Model: "Corvane S210"}, {Role: "clone", Model: fmt.Sprint("Ostra N", i%30)}}}
		require.NoError(b, s.Create(b.Context(), c, storetest.Nobody))
		words := []string{c.Title, c.Machine, `\EFI\Microsoft\Boot\bootmgfw.efi \EFI\BOOT\BOOTX64.EFI Windows comes up from partition 3 of the clone`, "EFI system partition Basic data Microsoft reserved"}
		for n := range 12 {
			words = append(words, fmt.Sprintf("%08X-%04X-4C1A-9A55-%012X", i*7919+n, n*31+i%97, i*104729+n))
		}
		require.NoError(b, s.Record(b.Context(), store.Check{CaseID: c.ID, Rules: "r", Verdict: "starts", Reaches: "starts"}, words))
	}
	for _, q := range []string{"", "kiosk 9999", "bootx64.efi", "windows d7", "e", "a1b", "ostra n3 windows", "000c1a2b", "nothing here"} {
		b.Run(q, func(b *testing.B) {
			for b.Loop() {
				_, err := s.List(b.Context(), store.Page{Search: q, Limit: 51})
				require.NoError(b, err)
			}
		})
	}
}
