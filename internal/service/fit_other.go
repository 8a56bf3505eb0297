//go:build !linux

package service

func fitClock(judge) {}
