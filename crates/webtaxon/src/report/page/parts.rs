//! Small parts that the page's sections share: names, strangers' texts, lists.

use crate::report::harmless;
use maud::{Markup, html};

/// An entry's name in full, which may be broken between its parts.
pub(super) fn full(dn: &str) -> Markup {
    let shown = harmless(dn);
    html! {
        bdi.dn { @for (at, part) in shown.split(',').enumerate() { @if at > 0 { "," wbr; } (part) } }
    }
}

/// A stranger's text: harmless, and without power over the direction of what stands around it.
pub(super) fn text(value: &str) -> Markup {
    html! { bdi { (harmless(value)) } }
}

/// A list that is folded away where it is long; nothing for none.
pub(super) fn list(title: &str, lines: impl ExactSizeIterator<Item = String>) -> Markup {
    let count = lines.len();
    html! {
        @if count > 0 {
            details open[count <= 12] {
                summary { (title) " (" (count) ")" }
                ul { @for line in lines { li { (text(&line)) } } }
            }
        }
    }
}
