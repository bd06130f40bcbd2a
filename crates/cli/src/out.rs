//! What is printed. A program that reads it, such as `head`, may stop reading: the command goes on, and ends with its own
//! code.

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
