package view

import (
	"cmp"
	"context"
	"net/netip"
	"os"

	"omnivigil/internal/output/locate"
	"omnivigil/internal/process/browser"
	"omnivigil/internal/text/location"
)

// OpenEditor opens a location in the user's editor.
func (m *Model) OpenEditor(p location.Location) {
	if m.Remote != nil {
		m.openThere(p)
		return
	}
	editor := cmp.Or(m.Editor, os.Getenv("VISUAL"), os.Getenv("EDITOR"))
	cmd, terminal, err := locate.Command(editor, p)
	if err != nil {
		m.Notice = err.Error()
		return
	}
	m.runEditor(cmd, terminal)
}

// OpenLocation opens the location of a test or a finding in the user's editor, if the file exists.
func (m *Model) OpenLocation(p location.Location) {
	if p.File == "" {
		m.Said = "no place in a file is known of it"
		return
	}
	if _, err := os.Stat(p.File); err != nil && m.Remote == nil {
		m.Notice = p.File + " does not exist"
		return
	}
	m.OpenEditor(location.Location{File: p.File, Line: p.Line, Column: p.Column})
}

// Addresses are the addresses that the selected unit listens on.
func (m *Model) Addresses() []netip.AddrPort { return m.Snap.Uses[m.Selected].Addresses }

// Browse opens the first address of the selected unit in the browser.
func (m *Model) Browse() {
	address := m.Addresses()[0]
	if m.Remote != nil {
		m.browseThere(address)
		return
	}
	m.Later(func(context.Context) Then { return m.Report(browser.Open(address)) })
}
