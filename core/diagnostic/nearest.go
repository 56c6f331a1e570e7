package diagnostic

// Nearest returns the known name that was probably meant, or "" if none is near: up to a third of the letters
// can differ, by the optimal string alignment distance (a swap of neighbors counts once).
func Nearest(name string, known []string) string {
	best, limit := "", max(1, len(name)/3)+1
	for _, k := range known {
		if d := distance(name, k, limit); d < limit {
			best, limit = k, d
		}
	}
	return best
}

func distance(a, b string, limit int) int {
	if len(a)-len(b) >= limit || len(b)-len(a) >= limit {
		return limit
	}
	before, row, next := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := 1; i <= len(a); i++ {
		next[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			next[j] = min(row[j]+1, next[j-1]+1, row[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				next[j] = min(next[j], before[j-2]+1)
			}
		}
		before, row, next = row, next, before
	}
	return row[len(b)]
}
