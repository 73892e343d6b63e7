// Package nearword finds the word somebody probably meant.
//
//	nearword.Of("crew-rooster", names) // "crew-roster"
package nearword

// longest is the length of words that are looked at, in octets: names are shorter.
const longest = 100

// Of gives the candidate that is nearest to what was given, at most a third of
// its letters away; "" if none is.
func Of[T ~string](given string, candidates []T) (best T) {
	bestAt := 1 << 30
	if len(given) > longest {
		return best
	}
	for _, c := range candidates {
		if apart := len(c) - len(given); max(apart, -apart) > (len(c)+2)/3 {
			continue // cannot be near
		}
		if d := distance(given, string(c)); d < bestAt && d <= (len(c)+2)/3 {
			best, bestAt = c, d
		}
	}
	return best
}

// distance is the number of single-letter edits between two words.
func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := 1; i <= len(a); i++ {
		diagonal := row[0]
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := diagonal
			if a[i-1] != b[j-1] {
				cost++
			}
			diagonal = row[j]
			row[j] = min(cost, row[j]+1, row[j-1]+1)
		}
	}
	return row[len(b)]
}
