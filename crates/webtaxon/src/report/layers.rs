//! Coordinates of a layered drawing: columns from left to right, lines that bend around the boxes in between, few
//! crossings, neighbours at the same height where possible (after Sugiyama, Tagawa and Toda 1981).
//!
//! No I/O, no recursion; linear in the lines and the columns that they pass, for each of a fixed number of sweeps.

use std::collections::HashMap;

/// Number of sweeps that sort the columns.
const SWEEPS: usize = 12;

/// The coordinates: heights from 0 downwards, in the unit of the gaps.
#[derive(Clone, Debug, Default, PartialEq)]
pub(super) struct Layers {
    /// The height of each box's centre.
    pub(super) heights: Vec<f64>,
    /// For each line, the heights at which it passes the columns in between.
    pub(super) passes: Vec<Vec<f64>>,
    /// The total height.
    pub(super) height: f64,
}

/// An item of a column: a box, or a passing line.
#[derive(Clone, Debug, Default)]
struct Slot {
    /// Its share of the column; a box takes more than a passing line.
    gap: f64,
    before: Vec<usize>,
    behind: Vec<usize>,
    height: f64,
}

/// Places boxes in their columns, with lines from each to a column further right. `gap` is the distance of two boxes
/// in a column, `thin` that of passing lines.
pub(super) fn place(columns: &[usize], lines: &[(usize, usize)], gap: f64, thin: f64) -> Layers {
    let column_of = |index: usize| columns.get(index).copied().unwrap_or(0);
    let mut slots: Vec<Slot> = columns.iter().map(|_| Slot { gap, ..Slot::default() }).collect();
    let mut order: Vec<Vec<usize>> = vec![Vec::new(); columns.iter().max().map_or(0, |last| last + 1)];
    let stand = |order: &mut Vec<Vec<usize>>, column: usize, slot: usize| {
        if let Some(column) = order.get_mut(column) {
            column.push(slot);
        }
    };
    (0..columns.len()).for_each(|index| stand(&mut order, column_of(index), index));
    let mut passing: Vec<Vec<usize>> = Vec::with_capacity(lines.len());
    for &(from, to) in lines {
        let between = column_of(from) + 1..column_of(to);
        let mut line = Vec::with_capacity(between.len());
        let mut last = from;
        for column in between {
            let slot = slots.len();
            slots.push(Slot { gap: thin, ..Slot::default() });
            stand(&mut order, column, slot);
            join(&mut slots, last, slot);
            line.push(slot);
            last = slot;
        }
        join(&mut slots, last, to);
        passing.push(line);
    }
    put_in_order(&mut order, &slots);
    find_heights(&order, &mut slots);
    let top = slots.iter().map(|slot| slot.height - slot.gap / 2.0).fold(f64::INFINITY, f64::min);
    let bottom = slots.iter().map(|slot| slot.height + slot.gap / 2.0).fold(f64::NEG_INFINITY, f64::max);
    let at = |slot: usize| slots.get(slot).map_or(0.0, |slot| slot.height - top);
    Layers {
        heights: (0..columns.len()).map(at).collect(),
        passes: passing.iter().map(|line| line.iter().map(|slot| at(*slot)).collect()).collect(),
        height: if slots.is_empty() { 0.0 } else { bottom - top },
    }
}

fn join(slots: &mut [Slot], from: usize, to: usize) {
    if let Some(slot) = slots.get_mut(from) {
        slot.behind.push(to);
    }
    if let Some(slot) = slots.get_mut(to) {
        slot.before.push(from);
    }
}

/// Sorts each column by the mean position of its neighbours, to and fro, and keeps the order with the fewest
/// crossings.
fn put_in_order(order: &mut Vec<Vec<usize>>, slots: &[Slot]) {
    let mut best = (crossings(order, slots), order.clone());
    for sweep in 0..SWEEPS {
        let forwards = sweep % 2 == 0;
        let count = order.len();
        for step in 1..count {
            let (column, other) = if forwards { (step, step - 1) } else { (count - 1 - step, count - step) };
            let places = places(order.get(other).map_or(&[], Vec::as_slice));
            let middle = |slot: &usize, own: usize| {
                let slot = slots.get(*slot);
                let near = slot.map_or(&[][..], |slot| if forwards { &slot.before } else { &slot.behind });
                let sum: usize = near.iter().filter_map(|one| places.get(one)).sum();
                if near.is_empty() { as_height(own) } else { as_height(sum) / as_height(near.len()) }
            };
            if let Some(column) = order.get_mut(column) {
                let mut keyed: Vec<(f64, usize)> =
                    column.iter().enumerate().map(|(own, slot)| (middle(slot, own), *slot)).collect();
                keyed.sort_by(|one, other| one.0.total_cmp(&other.0));
                *column = keyed.into_iter().map(|(_, slot)| slot).collect();
            }
        }
        let now = crossings(order, slots);
        if now < best.0 {
            best = (now, order.clone());
        }
    }
    *order = best.1;
}

/// Number of pairs of lines that cross: inversions, counted with a tree of sums (Barth, Mutzel, Jünger 2004).
fn crossings(order: &[Vec<usize>], slots: &[Slot]) -> usize {
    let mut all = 0;
    for pair in order.windows(2) {
        let [left, right] = pair else { continue };
        let places = places(right);
        let mut sums = vec![0_usize; right.len() + 1];
        let mut met = 0;
        for slot in left {
            let mut ends: Vec<usize> = slots
                .get(*slot)
                .map_or(&[][..], |slot| &slot.behind)
                .iter()
                .filter_map(|end| places.get(end).copied())
                .collect();
            ends.sort_unstable();
            for end in &ends {
                let mut at = end + 1;
                let mut not_above = 0;
                while at > 0 {
                    not_above += sums.get(at).copied().unwrap_or(0);
                    at &= at - 1;
                }
                all += met - not_above;
            }
            for end in &ends {
                let mut at = end + 1;
                while let Some(sum) = sums.get_mut(at) {
                    *sum += 1;
                    at += at & at.wrapping_neg();
                }
            }
            met += ends.len();
        }
    }
    all
}

fn places(column: &[usize]) -> HashMap<usize, usize> {
    column.iter().enumerate().map(|(place, slot)| (*slot, place)).collect()
}

/// A count as a length; exact for any number of boxes or letters that occurs.
pub(super) fn as_height(count: usize) -> f64 {
    u32::try_from(count).map_or(f64::from(u32::MAX), f64::from)
}

/// Moves each item as close to the mean of its neighbours as its column allows.
fn find_heights(order: &[Vec<usize>], slots: &mut [Slot]) {
    for column in order {
        let mut at = 0.0;
        for slot in column {
            if let Some(slot) = slots.get_mut(*slot) {
                slot.height = at + slot.gap / 2.0;
                at += slot.gap;
            }
        }
    }
    for sweep in 0..SWEEPS {
        let forwards = sweep % 2 == 1;
        let count = order.len();
        for step in 0..count {
            let Some(column) = order.get(if forwards { step } else { count - 1 - step }) else { continue };
            let mut wanted = Vec::with_capacity(column.len());
            let mut below = 0.0;
            let mut last_gap: Option<f64> = None;
            for slot in column {
                let Some(slot) = slots.get(*slot) else { continue };
                let near = if forwards { &slot.before } else { &slot.behind };
                let heights: f64 = near.iter().filter_map(|one| slots.get(*one)).map(|one| one.height).sum();
                let middle = if near.is_empty() { slot.height } else { heights / as_height(near.len()) };
                below += last_gap.map_or(0.0, |last| (last + slot.gap) / 2.0);
                last_gap = Some(slot.gap);
                wanted.push((middle - below, below));
            }
            let levels = rising(&wanted.iter().map(|(level, _)| *level).collect::<Vec<_>>());
            for ((slot, level), (_, below)) in column.iter().zip(levels).zip(&wanted) {
                if let Some(slot) = slots.get_mut(*slot) {
                    slot.height = level + below;
                }
            }
        }
    }
}

/// The non-decreasing numbers closest to these: neighbours in the wrong order take their mean.
fn rising(wanted: &[f64]) -> Vec<f64> {
    let mut blocks: Vec<(f64, usize)> = Vec::new();
    for &level in wanted {
        let mut block = (level, 1);
        while let Some(&(before, count)) = blocks.last()
            && before > block.0
        {
            let both = count + block.1;
            block = ((before * as_height(count) + block.0 * as_height(block.1)) / as_height(both), both);
            blocks.pop();
        }
        blocks.push(block);
    }
    blocks.into_iter().flat_map(|(level, count)| std::iter::repeat_n(level, count)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn lines_are_uncrossed_and_boxes_stand_at_the_height_of_their_neighbours() {
        // 0 holds 1 and 2; 1 holds 4, 2 holds 3: as they come, the lines to 3 and 4 cross.
        let placed = place(&[0, 1, 1, 2, 2], &[(0, 1), (0, 2), (1, 4), (2, 3)], 10.0, 4.0);
        assert_eq!(placed.heights, [10.0, 5.0, 15.0, 15.0, 5.0]);
        assert_eq!(placed.height, 20.0);
    }

    #[test]
    fn a_long_line_passes_beside_the_box_between() {
        let placed = place(&[0, 1, 2], &[(0, 1), (1, 2), (0, 2)], 10.0, 4.0);
        let passed = placed.passes[2][0];
        assert!((passed - placed.heights[1]).abs() >= 7.0, "{placed:?}");
        assert_eq!(place(&[], &[], 10.0, 4.0), Layers::default());
    }

    #[test]
    fn levels_rise() {
        assert_eq!(rising(&[1.0, 3.0, 2.0, 0.0, 5.0]), [1.0, 5.0 / 3.0, 5.0 / 3.0, 5.0 / 3.0, 5.0]);
    }

    proptest! {
        /// Whatever the nest: no two boxes of a column overlap, and everything is within the height.
        #[test]
        fn nothing_overlaps(columns in proptest::collection::vec(0_usize..5, 1..30), ends in proptest::collection::vec((0_usize..30, 0_usize..30), 0..60)) {
            let columns: Vec<usize> = columns;
            let lines: Vec<(usize, usize)> = ends.into_iter()
                .filter(|(from, to)| columns.get(*from).zip(columns.get(*to)).is_some_and(|(from, to)| from < to))
                .collect();
            let placed = place(&columns, &lines, 10.0, 4.0);
            for (one, column) in columns.iter().enumerate() {
                prop_assert!(placed.heights[one] >= 4.999 && placed.heights[one] <= placed.height - 4.999);
                for (other, near) in columns.iter().enumerate().skip(one + 1) {
                    prop_assert!(near != column || (placed.heights[one] - placed.heights[other]).abs() > 9.999);
                }
            }
            for ((from, to), passes) in lines.iter().zip(&placed.passes) {
                prop_assert_eq!(passes.len(), columns[*to] - columns[*from] - 1);
            }
        }
    }
}
