package api

import "context"

// FollowLines calls take with the lines that are asked for and then with those that come,
// until the project has ended and all are reported, or take has an error, or the context is
// done.
func FollowLines(ctx context.Context, p Project, q LineQuery, take func([]Line) error) error {
	next := int64(-1)
	catchUp := func(to int64) error { // 0: to the newest line
		for q.To = to; ; q.To = to {
			page, err := p.Lines(ctx, q)
			if err != nil {
				return err
			}
			if len(page.Lines) > 0 {
				if err := take(page.Lines); err != nil {
					return err
				}
				next = page.End
			} else {
				if next < 0 {
					next = page.Total
				}
				next = max(next, page.End)
			}
			q = LineQuery{Filter: q.Filter, Unit: q.Unit, Raw: q.Raw, Count: MaxLines, From: next}
			if len(page.Lines) == 0 || to > 0 && next >= to {
				return nil
			}
		}
	}
	if err := catchUp(0); err != nil {
		return err
	}
	lines := int64(-1)
	return p.Follow(ctx, Face{}, func(s *Snapshot) error {
		if s.Lines == lines && !s.Ended {
			return nil
		}
		lines = s.Lines
		to := lines
		if s.Ended {
			to = 0
		} else if next >= to {
			return nil
		}
		return catchUp(to)
	})
}
