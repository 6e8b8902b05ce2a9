//! Browser tests.
