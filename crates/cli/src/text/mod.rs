//! Answers as text for people.

mod apply;
mod check;
mod compare;
mod filter;
mod groups;
mod members;
mod parts;
mod preview;
mod settle;
mod sign_in;
mod since;
mod survey;
mod why;

pub(crate) use apply::{
    applied, apply_preview, counts, forgotten, how_to_undo, run, runs, saved, statements, work,
};
pub(crate) use check::{checked, step};
pub(crate) use compare::comparison;
pub(crate) use filter::{FilterAnswer, filter};
pub(crate) use members::{groups, members, nest_broken, nest_tree, ways};
pub(crate) use preview::preview;
pub(crate) use settle::{answers, made_anew, question, questions};
pub(crate) use sign_in::{audit, examination};
pub(crate) use since::since;
pub(crate) use survey::{fields, found, snapshot, trees};
pub(crate) use why::why;
