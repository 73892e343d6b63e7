# Prints the benchmarks and, from the same run, their ratios; absolute times of a
# shared machine mean little.
/^Benchmark/ { name = $1; sub(/-[0-9]+$/, "", name); time[name] = $3; print; for (i = 5; i < NF; i += 2) size[name, $(i + 1)] = $i }
/^BenchmarkPeople\/Reroute=/ { n = name; sub(/.*=/, "", n); time["Reroute" n] = $3 / n }
/^BenchmarkPeople\/Foresee=/ { n = name; sub(/.*=/, "", n); time["Foresee" n] = $3 / n }
function flat(text, of) { if (size[of, "times"]) printf "%-92s %6.2f\n", text " (wanted 1.1)", size[of, "times"] }
function ratio(text, a, b) { if (time[a] && time[b]) printf "%-92s %6.2f\n", text, time[a] / time[b] }
END {
  print ""
  ratio("reading and verifying a signed 7 KB answer / one RSA verification", "BenchmarkVerify", "BenchmarkVerifyFloor")
  ratio("refusing the worst forged message / reading a plain one of its size", "BenchmarkForged", "BenchmarkForgedFloor")
  ratio("a whole crossing / one RSA signature (it has three)", "BenchmarkCrossing", "BenchmarkCrossingFloor")
  flat("what is no signature of it, with 10,000 applications / with one", "BenchmarkFlat/Applications=10000")
  flat("the same with 200,000 people / with 200", "BenchmarkPeople/Flat")
  flat("the same with 1,000 rules of access / with none", "BenchmarkFlat/Rules=1000")
  ratio("SAML to OpenID Connect, ES256, computed / RSA verification + 2 P-256 signatures (wanted 3.5)", "BenchmarkClientComputed", "BenchmarkClientComputedFloor")
  ratio("OpenID Connect to SAML, computed / RSA verification + RSA signature (wanted 3.5)", "BenchmarkReliedToSAML", "BenchmarkReliedToSAMLFloor")
  ratio("OpenID Connect to OpenID Connect, ES256, computed / RSA verification + 2 P-256 signatures (wanted 3.5)", "BenchmarkReliedToClient", "BenchmarkClientComputedFloor")
  ratio("such a sign-in with 10,000 applications / with one", "BenchmarkClientSignIn10000Clients", "BenchmarkClientSignIn")
  ratio("a refresh / the transaction of one row that it makes (wanted 2)", "BenchmarkRefresh", "BenchmarkRefreshFloor")
  ratio("a refresh with 10,000 applications / with one", "BenchmarkRefresh10000Clients", "BenchmarkRefresh")
  ratio("reading and verifying an aggregate of 10,000 / xmlsec1 --verify (wanted 0.50)", "BenchmarkAggregateRead", "BenchmarkAggregateXmlsec1")
  ratio("the same sent, kept and indexed / xmlsec1 --verify (wanted 0.70)", "BenchmarkAggregateTakenIn", "BenchmarkAggregateXmlsec1")
  if (time["BenchmarkMapping/rules=60"]) printf "%-92s %6.1f\n", "microseconds for a mapping of sixty rules (wanted 30)", time["BenchmarkMapping/rules=60"] / 1e3
  ratio("a mapping of sixty rules / one match of a pattern", "BenchmarkMapping/rules=60", "BenchmarkMapping/pattern")
  if (time["BenchmarkReevaluation"]) printf "%-92s %6.2f\n", "seconds to run 10,000 recorded crossings through a change (wanted 10)", time["BenchmarkReevaluation"] / 1e9
  if (time["BenchmarkExpression"]) printf "%-92s %6.1f\n", "microseconds for a condition in CEL", time["BenchmarkExpression"] / 1e3
  ratio("a page of 10,000 applications / of 10 (wanted 2)", "BenchmarkPages10000/List", "BenchmarkPages10/List")
  ratio("a search among 10,000 applications / among 10 (wanted 2)", "BenchmarkPages10000/Search", "BenchmarkPages10/Search")
  ratio("finding one of 200,000 people by a value / one of 200 (wanted 1.2)", "BenchmarkPeople/Match=200000", "BenchmarkPeople/Match=200")
  ratio("a search among 200,000 people / among 200 (wanted 2)", "BenchmarkPeople/Search=200000", "BenchmarkPeople/Search=200")
  if (time["BenchmarkPeople/Import=200000"]) printf "%-92s %6.2f\n", "seconds to look at and take in a list of 200,000 people (wanted 60)", time["BenchmarkPeople/Import=200000"] / 1e9
  if (time["BenchmarkPeople/Foresee=200000"]) printf "%-92s %6.2f\n", "seconds to foresee whose entry, of 200,000 people, one change decides otherwise (wanted 20)", time["BenchmarkPeople/Foresee=200000"] / 1e9
  if (time["BenchmarkPeople/Reroute=200000"]) printf "%-92s %6.2f\n", "seconds to tell whose way, of 200,000 people, one rule of provider selection changes (wanted 20)", time["BenchmarkPeople/Reroute=200000"] / 1e9
  ratio("telling the way of one of 200,000 people / one of 200", "Reroute200000", "Reroute200")
  ratio("foreseeing one of 200,000 people / one of 200", "Foresee200000", "Foresee200")
  if (time["BenchmarkEnter"]) printf "%-92s %6.1f\n", "microseconds to decide on entry and roles: 1,000 rules, five in CEL, 200 roles, a person in 200 of 2,000 groups (wanted 60)", time["BenchmarkEnter"] / 1e3
  ratio("deciding on entry / one condition in CEL, of which it has five", "BenchmarkEnter", "BenchmarkExpression")
  if (time["BenchmarkPortal"]) printf "%-92s %6.1f\n", "milliseconds of the gate for the portal of a person in 200 groups who enters 300 of 5,000 applications (wanted 5)", size["BenchmarkPortal", "ms-of-the-gate"]
  if (time["BenchmarkPortal"]) printf "%-92s %6.1f\n", "kB sent for it (wanted 60)", size["BenchmarkPortal", "kB-sent"]
  if (time["BenchmarkPeople/Compare=200000"]) printf "%-92s %6.2f\n", "seconds to compare 200,000 accounts with 200,000 people (wanted 10)", time["BenchmarkPeople/Compare=200000"] / 1e9
  if (time["BenchmarkAggregateTakenIn"]) printf "%-92s %6.1f\n", "MB above the idle service while taking it in (wanted 64)", size["BenchmarkAggregateTakenIn", "MB-above-idle"]
  if (time["BenchmarkServe10000"]) printf "%-92s %6.2f\n", "seconds to start with 10,000 applications, without stand-ins (wanted 1)", time["BenchmarkServe10000"] / 1e9
  if (time["BenchmarkStart10000"]) printf "%-92s %6.2f\n", "seconds to start with 10,000 applications and the stand-ins (wanted 2)", time["BenchmarkStart10000"] / 1e9
}
