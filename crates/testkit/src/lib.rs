//! Scenes for tests.
