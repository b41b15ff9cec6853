//! What to say beside a form in which somebody types a filter, before any server is asked:
//! `cargo run --example filter_advice -- '(&(objectClass=user)(mail=*))'`.
#![expect(clippy::print_stdout, reason = "an example shows its result")]

use webtaxon::model::ldap::filter::Filter;
use webtaxon::model::ldap::filter::advice::{Context, advise, likely_kind};

fn main() {
    let text = std::env::args().nth(1).unwrap_or_default();
    let filter = match Filter::parse_pasted(&text) {
        Ok(repaired) => repaired.filter,
        Err(error) => {
            println!("{error}");
            return;
        }
    };
    println!("{filter}");
    for advice in advise(&filter, Context::of(likely_kind(&filter))) {
        println!("{} {}: {}", advice.code, advice.clause, advice.message);
        if let Some(better) = advice.rewrite {
            println!("  better: {better}");
        }
    }
}
