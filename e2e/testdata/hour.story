# The morning: everything starts, in the order of needs.
see CURRENT +all 4 run
see ▸ fares

# A save breaks a task. One key leads to it, another explains it.
save later/bad.csv fares.csv
see STALE +tickets still runs the code from before .*: fares failed
key !
see fares.csv:2:8: error: the price is missing
key Enter
see how fares run 2 failed
see > +2 +broken,
see changed since run 1 ran well
see what it blocks
see tickets: ready, stale
see fix fares.csv:2:8
key q
see ─ all output

# It is fixed, and the past is looked at.
save later/good.csv fares.csv
see CURRENT +all 4 run the code saved
key \;
see CURRENT +at \d\d:\d\d:\d\d
key ,
see STALE +at \d\d:\d\d:\d\d .*now CURRENT
see fares +task +failed
key .
see following

# What did the save set off?
key R
see ▸ +3 .* current .* fares.csv
see output of ripple 3
key Down
see ─ ripple 2  fares.csv  broken
see fares.csv:2:8: error: the price is missing
key q
see following

# A test fails, and is run alone until it passes.
save later/low tide
see BROKEN +harbour: 1 test failing \(1 new\): low
key T
see newly failing
see low
key r
see 2 tests not run
save later/high tide
see STALE +harbour is narrowed to low, 2 tests not run
key q
see ─ all output
key :
see ─ commands ─
type remove-arguments harbour
key Enter
see CURRENT +all 4 run

# A part of the project is enough for now.
key f
see units with
type @sales
see no unit has "@sales"
key C-u
see units with
type sales
see 2 more; those with "sales"
key Enter
see ─ all output
key C-o
see CURRENT +2 of 4 run.*2 stopped
key f
see units with
key C-u
see berths +service +stopped
key Enter
see ─ all output
key C-o
see CURRENT +all 4 run

# In a flood, similar lines fold, one unit is muted, and a value is followed through all units.
save later/flood flood
see order a\d+-x7 to berth
key $
see to berth \d +\(\d+ similar\)
key f
see units with
type berths
see ▸ berths
key Enter
see 3 more; those with "berths"
key _
see ─ without berths
not order a\d+-x7 to berth
key BSpace
see ─ all output
key "
see enter copy
key f
see lines of all units with|this line has no value
key BSpace
see ─ all output|all lines are shown
save later/quiet flood
see CURRENT

# Only its output, a search, and back.
key Enter
see ─ only berths
key /
see search
type berth
see \d+ lines? match
key Enter
see \d+ lines? match +at
key BSpace
see ─ all output

# The unit in full, the map, the charts.
key U
see berths  service  ready
key M
see map: a thin line
key /
see if I save
type fares.csv
key Enter
see 1 fares|fares reruns: it matches
key L
see ─ all output
key C
see ▸\d \w+
key q
see ─ all output

# A question about a save, and help.
key ?
see page down|leave: stop everything
key q
see ─ all output

# Leaving asks once; esc stays.
key q
see Leave .*
key Escape
see ─ all output
key q
see Leave .*
key s
see exit code 0

-- omnivigil.toml --
[project]
name = "Saltmarsh Ferries"

[task.fares]
run = "sh fares.sh"
watch = ["fares.csv"]

[service.tickets]
run = "exec sleep 1000"
follows = ["fares"]
ready = { after = "10ms" }

[service.berths]
run = "sh berths.sh"
ready = { after = "10ms" }

[suite.harbour]
run = "sh tests.sh"
watch = ["tide"]
narrow = { add = "{}" }

[group.sales]
units = ["fares", "tickets"]
-- fares.sh --
if grep -q broken fares.csv; then
  echo "fares.csv:2:8: error: the price is missing"
  exit 1
fi
echo fares are fine
-- berths.sh --
n=0
while :; do
  if grep -q yes flood; then n=$((n+1)); echo "order a$n-x7 to berth $((n%4))"; sleep 0.05; else sleep 0.2; fi
done
-- tests.sh --
tests=${*:-high low ebb}
n=0 code=0
for t in $tests; do
  n=$((n+1))
  if [ $t = low ] && grep -q low tide; then echo "not ok $n - $t"; code=1; else echo "ok $n - $t"; fi
done
echo "1..$n"
exit $code
-- fares.csv --
single,4.20
return,7.80
-- tide --
high
-- flood --
no
-- later/bad.csv --
single,4.20
broken,
-- later/good.csv --
single,4.30
return,7.90
-- later/low --
low
-- later/high --
high
-- later/flood --
yes
-- later/quiet --
no
