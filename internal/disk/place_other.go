//go:build unix && !linux && !darwin

package disk

func place(from, to string) error { return placeSlowly(from, to) }

func swap(a, b string) error { return swapSlowly(a, b) }
