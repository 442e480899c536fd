//! A world of calendars for tests: servers in memory, a clock, sample entries
