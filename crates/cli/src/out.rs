//! What is printed. Whoever reads it may stop reading, as `head` does: the command goes on, and ends with its own code.

/// As the standard library's, but for a reader that went away.
macro_rules! println {
    ($($words:tt)*) => {{
        use std::io::Write as _;
        let _ = writeln!(std::io::stdout(), $($words)*);
    }};
}

/// As the standard library's, but for a reader that went away.
macro_rules! print {
    ($($words:tt)*) => {{
        use std::io::Write as _;
        let _ = write!(std::io::stdout(), $($words)*);
    }};
}
