//! Parts shared by the sections of the page: names, untrusted text, lists.

use crate::report::harmless;
use maud::{Markup, html};

/// An entry's full name, which may be wrapped between its parts.
pub(super) fn full(dn: &str) -> Markup {
    let shown = harmless(dn);
    html! {
        bdi.dn { @for (at, part) in shown.split(',').enumerate() { @if at > 0 { "," wbr; } (part) } }
    }
}

/// Untrusted text: escaped, and isolated from the direction of the surrounding text.
pub(super) fn text(value: &str) -> Markup {
    html! { bdi { (harmless(value)) } }
}

/// A list, collapsed if it is long; nothing if it is empty.
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
