//! Keeps calendars on different servers and clients in step, and proves that it did
