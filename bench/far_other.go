//go:build !linux

package main

func fromAfar(string) func(*bench) result {
	return func(*bench) result { return result{value: skipped} }
}
