package tui

import "omnivigil/internal/session"

func Run(s *session.Session) error { return nil }
