package api

// Optional returns a pointer to a value, or nil for the zero value, as optional
// fields of the API have it.
func Optional[T comparable](v T) *T {
	var zero T
	if v == zero {
		return nil
	}
	return &v
}

// OrZero returns the value of a pointer, or the zero value.
func OrZero[T any](v *T) T {
	if v == nil {
		var zero T
		return zero
	}
	return *v
}
