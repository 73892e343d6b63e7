# Prints the benchmarks and, from the same run, their ratios; absolute times of a
# shared machine mean little.
/^Benchmark/ { name = $1; sub(/-[0-9]+$/, "", name); time[name] = $3; print }
function ratio(text, a, b) { if (time[a] && time[b]) printf "%-72s %6.2f\n", text, time[a] / time[b] }
END {
  print ""
  ratio("reading and verifying a signed 7 KB answer / one RSA verification", "BenchmarkVerify", "BenchmarkVerifyFloor")
  ratio("a whole crossing / one RSA signature (it has three)", "BenchmarkCrossing", "BenchmarkCrossingFloor")
  ratio("a crossing with 10,000 applications / with one", "BenchmarkCrossing10000Applications", "BenchmarkCrossing")
}
