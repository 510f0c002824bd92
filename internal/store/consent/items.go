package consent

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strconv"
	"strings"

	"omnivigil/internal/plan"
)

// Item is one thing that a project's settings make Omnivigil do: a command that runs, a variable that it gets, an
// address that is opened.
type Item struct {
	Unit string // empty: of the whole project
	What string // "run", "setup", "ready", ...
	Text string // for people
	// Usual: nearly every unit has such an item, so a user expects it.
	Usual bool

	exact string // everything that decides what is executed
	late  bool   // earlier versions have not stored such an item
}

func (i Item) hash() string {
	sum := sha256.Sum256(fmt.Appendf(nil, "%q %q %q", i.Unit, i.What, i.exact))
	return hex.EncodeToString(sum[:])
}

// Late reports whether it is about when and how something runs, not what.
func (i Item) Late() bool { return i.late }

// String returns the item on one line.
func (i Item) String() string { return strings.TrimSpace(i.Unit + " " + i.What + ": " + i.Text) }

// Items returns everything that a project would run and open, in the order of its file.
func Items(p *plan.Plan) []Item {
	var all []Item
	for _, file := range p.EnvFiles {
		all = append(all, Item{What: "reads variables from", Text: file, exact: file})
	}
	all = append(all, ofProject(p)...)
	if s := p.Share; s.URL != "" {
		what := "uses results from"
		if s.Write {
			what = "uses results from, and sends results to"
		}
		all = append(all, Item{What: what, Text: s.URL, exact: s.URL})
	}
	if c := p.OnVerdict; c != nil {
		all = append(
			all,
			Item{What: "runs for its verdict", Text: c.String(), exact: fmt.Sprintf("%q %q", c.Shell, shown(*c))},
		)
	}
	for _, u := range p.Units {
		all = append(all, itemsOf(p, u)...)
	}
	return all
}

func itemsOf(p *plan.Plan, u *plan.Unit) []Item {
	var all []Item
	add := func(usual bool, what, text, exact string) {
		all = append(all, Item{Unit: u.Name, What: what, Text: text, Usual: usual, exact: exact})
	}
	command := func(usual bool, what string, c *plan.Command) {
		if c != nil {
			add(usual, what, c.String(), fmt.Sprintf("%q %q %q", u.Dir, c.Shell, shown(*c)))
		}
	}
	add(true, "is", "a "+u.Kind.String(), u.Kind.String())
	if u.Relay != nil {
		listens, serves := u.Relay.Listen.String(), u.Relay.To
		if u.Relay.Root != "" {
			serves = u.Relay.Root
		}
		add(u.Relay.Listen.Addr().IsLoopback(), "serves pages on", listens, listens)
		add(true, "serves", serves, serves)
		for _, at := range u.Relay.At {
			text := at.Prefix + " from " + at.To + at.Root
			add(true, "serves", text, text)
		}
	} else {
		command(true, "runs", &u.Run)
	}
	if u.Dir != p.Root {
		add(true, "in", u.Dir, u.Dir)
	}
	for i := range u.Setup {
		command(false, "setup", &u.Setup[i].Run)
		if dir := u.Setup[i].Dir; dir != "" {
			add(true, "setup in", dir, dir)
		}
	}
	for i := range u.Prelude {
		command(false, "prelude", &u.Prelude[i].Run)
	}
	command(false, "ready when", u.Ready.Run)
	if u.Ready.HTTP != "" {
		add(true, "ready when", u.Ready.HTTP+" answers", u.Ready.HTTP)
	}
	command(false, "stopped by", u.Stop.Run)
	if u.Stop.Type != "" {
		add(false, "stopped by typing", strconv.Quote(u.Stop.Type), u.Stop.Type)
	}
	for _, re := range u.Reactions {
		command(false, "on "+re.When.Text+" runs", re.Run)
		if re.Do == plan.SendSignal {
			add(false, "on "+re.When.Text+" is sent", re.Signal, re.Signal)
		}
	}
	for _, v := range u.OwnEnv {
		add(false, "with", v.Name+"="+v.Value, v.Name+"="+v.Value)
	}
	for _, file := range u.EnvFiles {
		add(false, "reads variables from", file, file)
	}
	if u.Endpoint.Port != 0 {
		port := strconv.Itoa(u.Endpoint.Port)
		add(true, "listens on", "port "+port, port)
		if u.Endpoint.WhenUp == "browse" {
			add(false, "opens in the browser", "http://localhost:"+port+"/", port)
		}
	}
	return append(all, rulesOf(u)...)
}

// shown is a command as it is in the file: the values of variables come from the machine, not from the file.
func shown(c plan.Command) []string {
	if c.Written != nil {
		return c.Written
	}
	return c.Words
}

// News describes what one plan would do that another would not.
func News(before, after *plan.Plan) []string {
	had := map[string]bool{}
	for _, item := range Items(before) {
		had[item.hash()] = true
	}
	var news []string
	for _, item := range Items(after) {
		if !had[item.hash()] && item.What != "is" && !item.late {
			news = append(news, item.String())
		}
	}
	return news
}
