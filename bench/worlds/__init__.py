"""Made-up systems with faults whose true cause is known, for judging the trail."""
