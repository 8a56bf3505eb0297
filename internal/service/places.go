package service

import "nidalo/internal/keeper"

// manyJoined is how many flushes that go with others between two looks make it worth that one goroutine more may run.
const manyJoined = 2000

// places lets one goroutine more run than there are processors as long as many flushes go with others: their clients wake each other.
func (s *Service) places() {
	joined := int64(0)
	for _, r := range s.running() {
		joined += r.Stats().Joined.Load()
	}
	many := joined-s.joined > manyJoined
	s.joined = joined
	switch {
	case many && s.lessPlaces == nil:
		s.lessPlaces = keeper.OnePlaceMore()
	case !many && s.lessPlaces != nil:
		s.lessPlaces()
		s.lessPlaces = nil
	}
}
