//! How long a fit and a closed-loop trial take, beside a general-purpose library doing the same in the same run.

fn main() {}
