package api

import "context"

// FollowLines calls take with the lines that are asked for and then with those that come,
// until the project has ended and all are reported, or take has an error, or the context is
// done.
func FollowLines(ctx context.Context, p Project, q LineQuery, take func([]Line) error) error {
	rest := func(from int64) LineQuery {
		return LineQuery{Filter: q.Filter, Unit: q.Unit, Raw: q.Raw, Count: MaxLines, From: from}
	}
	next := int64(-1)
	catchUp := func() error {
		for {
			page, err := p.Lines(ctx, q)
			if err != nil {
				return err
			}
			if len(page.Lines) == 0 {
				if next < 0 {
					next = page.Total
				}
				next = max(next, page.End)
				q = rest(next)
				return nil
			}
			if err := take(page.Lines); err != nil {
				return err
			}
			next = page.End
			q = rest(next)
		}
	}
	if err := catchUp(); err != nil {
		return err
	}
	lines := int64(-1)
	return p.Follow(ctx, Face{}, func(s *Snapshot) error {
		if s.Lines == lines && !s.Ended {
			return nil
		}
		lines = s.Lines
		return catchUp()
	})
}
