//! Runs a route: survey, reconcile, guard, apply, record
