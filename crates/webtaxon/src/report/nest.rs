//! A group's nest as a drawing (SVG), and as a graph for other programs (DOT).

use super::harmless;
use super::layers::{self, Layers, as_height};
use quick_xml::Writer;
use quick_xml::events::{BytesText, Event};
use std::cmp::Ordering;
use std::fmt::Write as _;
use std::io;
use unicode_width::{UnicodeWidthChar as _, UnicodeWidthStr as _};
use webtaxon_core::ldap::name::short;
use webtaxon_core::membership::{Nest, Outlined};

/// Maximum groups drawn.
const DRAWN: usize = 300;
/// Minimum size of the drawing, in pixels.
const LEAST: (f64, f64) = (1280.0, 800.0);
const MARGIN: f64 = 30.0;
/// Room for the title above, and for the legend below.
const TOP: f64 = 96.0;
const BOTTOM: f64 = 64.0;
/// Room between two columns of boxes.
const BETWEEN: f64 = 44.0;

/// Average width of a letter, relative to its size.
const LETTER: f64 = 0.53;

const INK: &str = "#1d2733";
const QUIET: &str = "#5a6675";
const LINE: &str = "#8794a5";
const CYCLE: &str = "#a8560a";

/// A line between two groups.
struct Line {
    /// Their indexes in the outline, the left one first.
    ends: (usize, usize),
    /// Whether it points from right to left: to a group that contains its origin.
    is_back: bool,
    /// Whether both are in one column.
    in_place: bool,
}

/// Sizes and distances of the boxes.
struct Manner {
    /// Distance from box to box in a column, and from passing line to passing line.
    gaps: (f64, f64),
    /// Height of a box.
    height: f64,
    /// Maximum width of a box.
    widest: f64,
    /// Sizes of the letters of name and counts.
    letters: (f64, f64),
    /// Whether name and counts share one line.
    one_line: bool,
}

/// From large to small; the first one that fits is used.
const MANNERS: [Manner; 3] = [
    Manner { gaps: (48.0, 20.0), height: 38.0, widest: 280.0, letters: (13.5, 11.5), one_line: false },
    Manner { gaps: (36.0, 12.0), height: 30.0, widest: 250.0, letters: (12.0, 10.5), one_line: false },
    Manner { gaps: (20.0, 8.0), height: 17.0, widest: 330.0, letters: (12.0, 11.0), one_line: true },
];

/// The groups and who lists whom, as DOT.
#[must_use]
pub fn nest_dot(nest: &Nest<'_>) -> String {
    let quoted = |text: &str| harmless(text).replace('\\', "\\\\").replace('"', "\\\"");
    let outline = nest.outline();
    let mut text = String::from("digraph nest {\n  rankdir=LR;\n  node [shape=box];\n");
    for (place, group) in outline.iter().enumerate() {
        let label = format!("{}\\n{}", quoted(&short(&group.dn)), quoted(&told(group, false)));
        let _ = writeln!(text, "  g{place} [label=\"{label}\", tooltip=\"{}\"];", quoted(&group.dn));
    }
    for (place, group) in outline.iter().enumerate() {
        for inside in &group.inside {
            let is_back = outline.get(*inside).is_some_and(|other| other.level <= group.level);
            let _ =
                writeln!(text, "  g{place} -> g{inside}{};", if is_back { " [style=dashed]" } else { "" });
        }
    }
    text.push_str("}\n");
    text
}

/// The groups as boxes, each in a column after all groups that contain it, with the number of people; a
/// self-contained SVG file. Of large nests only the 300 outermost groups are drawn.
#[must_use]
pub fn nest_svg(nest: &Nest<'_>, whole: bool) -> String {
    let mut outline = nest.outline();
    let all = outline.len();
    outline.truncate(DRAWN);
    let drawn = outline.len();
    outline.iter_mut().for_each(|group| group.inside.retain(|place| *place < drawn));
    let columns: Vec<usize> = outline.iter().map(|group| group.level).collect();
    let lines = lines(&outline);
    let ends: Vec<(usize, usize)> =
        lines.iter().filter(|line| !line.in_place).map(|line| line.ends).collect();
    let mut tried =
        MANNERS.iter().map(|manner| (manner, layers::place(&columns, &ends, manner.gaps.0, manner.gaps.1)));
    let fits = |placed: &Layers| placed.height <= LEAST.1 - TOP - BOTTOM;
    let Some((manner, placed)) = tried.find(|(manner, placed)| manner.one_line || fits(placed)) else {
        return String::new();
    };
    let count = columns.iter().max().map_or(1, |last| last + 1);
    // The columns share the available width.
    let room = LEAST.0 - 2.0 * MARGIN;
    let width = ((room + BETWEEN) / as_height(count) - BETWEEN).clamp(150.0, manner.widest);
    let between = if count > 1 { (room - width * as_height(count)) / as_height(count - 1) } else { BETWEEN };
    let step = width + between.clamp(BETWEEN, 150.0);
    let picture = Picture { outline: &outline, placed, manner, width, step, count };
    let mut said = format!("{} in it", people(outline.first().map_or(0, |root| root.people)));
    if !whole {
        said.push_str("; not read to the end, there may be more");
    }
    if all > drawn {
        let _ = write!(said, "; {} more groups are not drawn", all - drawn);
    }
    let mut writer = Writer::new(Vec::new());
    // Writing to memory cannot fail.
    let _ = picture.write(&mut writer, nest.group(), &said, all, &lines);
    String::from_utf8(writer.into_inner()).unwrap_or_default()
}

/// All lines; one that points back is reversed for the layout.
fn lines(outline: &[Outlined]) -> Vec<Line> {
    let level = |place: usize| outline.get(place).map_or(0, |group| group.level);
    let all =
        outline.iter().enumerate().flat_map(|(from, group)| group.inside.iter().map(move |to| (from, *to)));
    all.map(|(from, to)| match level(from).cmp(&level(to)) {
        Ordering::Less => Line { ends: (from, to), is_back: false, in_place: false },
        Ordering::Greater => Line { ends: (to, from), is_back: true, in_place: false },
        Ordering::Equal => Line { ends: (from, to), is_back: true, in_place: true },
    })
    .collect()
}

fn people(count: usize) -> String {
    if count == 1 { "1 person".to_owned() } else { format!("{count} people") }
}

/// The counts of a group, in few words.
fn told(group: &Outlined, short: bool) -> String {
    let mut text = match (group.direct, group.people) {
        (0, 0) => "nobody".to_owned(),
        (direct, people) if direct == people => format!("{people}"),
        (direct, people) if short => format!("{direct} of {people}"),
        (direct, people) => format!("{direct} direct, {people} in all"),
    };
    for (count, what) in [(group.unlisted, "in no list"), (group.gone, "gone"), (group.outside, "outside")] {
        if count > 0 {
            let _ = write!(text, ", {count} {what}");
        }
    }
    if group.in_cycle {
        text.push_str(if short { ", cycle" } else { ", in a cycle" });
    }
    text
}

/// The part of a text that fits the width in letters of this size, with an ellipsis if cut.
fn fitting(text: &str, width: f64, size: f64) -> String {
    let text = drawable(text);
    let most = width / (size * LETTER);
    if as_height(text.width()) <= most {
        return text;
    }
    let mut kept = String::new();
    let mut taken = 1;
    for character in text.chars() {
        taken += character.width().unwrap_or(0);
        if as_height(taken) > most {
            break;
        }
        kept.push(character);
    }
    format!("{}…", kept.trim_end())
}

/// The text without characters that XML forbids or that change the direction of text.
fn drawable(text: &str) -> String {
    harmless(text).replace(['\u{fffe}', '\u{ffff}'], "\u{fffd}")
}

/// A drawing with its coordinates.
struct Picture<'o> {
    outline: &'o [Outlined],
    placed: Layers,
    manner: &'static Manner,
    /// Of a box, and from one column to the next.
    width: f64,
    step: f64,
    /// Number of columns.
    count: usize,
}

type Pen<'w> = &'w mut Writer<Vec<u8>>;

impl Picture<'_> {
    fn size(&self) -> (f64, f64) {
        let width = self.step * as_height(self.count - 1) + self.width + 2.0 * MARGIN;
        (width.max(LEAST.0), (self.placed.height + TOP + BOTTOM).max(LEAST.1))
    }

    /// The left edge and the centre of a box.
    fn at(&self, place: usize) -> (f64, f64) {
        let level = self.outline.get(place).map_or(0, |group| group.level);
        (self.column(level), self.down(self.placed.heights.get(place).copied().unwrap_or(0.0)))
    }

    fn column(&self, level: usize) -> f64 {
        MARGIN + self.step * as_height(level)
    }

    /// Centred in the available height, or from its top if it is taller.
    fn down(&self, height: f64) -> f64 {
        let room = self.size().1 - TOP - BOTTOM;
        TOP + ((room - self.placed.height) / 2.0).max(0.0) + height
    }

    fn write(&self, pen: Pen<'_>, group: &str, said: &str, all: usize, lines: &[Line]) -> io::Result<()> {
        let (width, height) = self.size();
        let (wide, high) = (format!("{width:.0}"), format!("{height:.0}"));
        let name = drawable(&short(group));
        let view = format!("0 0 {wide} {high}");
        let label = format!("{name}: {}", drawable(said));
        let attributes = [
            ("xmlns", "http://www.w3.org/2000/svg"),
            ("width", &*wide),
            ("height", &high),
            ("viewBox", &view),
            ("role", "img"),
            ("aria-label", &label),
            ("font-family", "sans-serif"),
        ];
        pen.create_element("svg").with_attributes(attributes).write_inner_content(|pen| {
            text_of(pen, "title", &[], &label)?;
            let all_of_it = [("width", "100%"), ("height", "100%"), ("fill", "#ffffff")];
            pen.create_element("rect").with_attributes(all_of_it).write_empty()?;
            let title =
                [("x", "30"), ("y", "42"), ("font-size", "22"), ("font-weight", "bold"), ("fill", INK)];
            text_of(pen, "text", &title, &fitting(&name, width - 2.0 * MARGIN, 22.0))?;
            let second = [("x", "30"), ("y", "66"), ("font-size", "14"), ("fill", QUIET)];
            let inner = all.saturating_sub(1);
            let groups = if inner == 1 { "1 group".to_owned() } else { format!("{inner} groups") };
            text_of(pen, "text", &second, &drawable(&format!("{said}; {groups} inside")))?;
            let (in_place, others): (Vec<&Line>, Vec<&Line>) = lines.iter().partition(|line| line.in_place);
            for (line, passes) in others.into_iter().zip(&self.placed.passes) {
                self.line(pen, line, passes)?;
            }
            for line in in_place {
                self.line_in_place(pen, line)?;
            }
            for (place, group) in self.outline.iter().enumerate() {
                self.group(pen, place, group)?;
            }
            self.legend(pen, height, lines.iter().any(|line| line.is_back))
        })?;
        pen.write_event(Event::Text(BytesText::new("\n")))
    }

    /// A line from the right edge of a box to the left edge of another, around the boxes in between.
    fn line(&self, pen: Pen<'_>, line: &Line, passes: &[f64]) -> io::Result<()> {
        let (out, into) = line.ends;
        let (left, middle) = self.at(out);
        let (mut x, mut y) = (left + self.width, middle);
        let mut path = format!("M{x:.1} {y:.1}");
        let level = self.outline.get(out).map_or(0, |group| group.level);
        let (to_x, to_y) = self.at(into);
        let stops = passes.iter().enumerate().map(|(step, height)| {
            let x = self.column(level + 1 + step);
            (x, self.down(*height), x + self.width)
        });
        for (to, height, end) in stops.chain([(to_x, to_y, to_x)]) {
            let half = (to - x) / 2.0;
            let _ = write!(path, "C{:.1} {y:.1} {:.1} {height:.1} {to:.1} {height:.1}", x + half, to - half);
            if end > to {
                let _ = write!(path, "H{end:.1}");
            }
            (x, y) = (end, height);
        }
        if line.is_back {
            let x = left + self.width;
            let tip = format!(
                "M{:.1} {:.1}L{x:.1} {middle:.1}L{:.1} {:.1}",
                x + 8.0,
                middle - 4.5,
                x + 8.0,
                middle + 4.5
            );
            return back(pen, &path, &tip);
        }
        let attributes = [("d", &*path), ("fill", "none"), ("stroke", LINE), ("stroke-width", "1.3")];
        pen.create_element("path").with_attributes(attributes).write_empty().map(|_| ())
    }

    /// A line around the right side of a column, or of one box.
    fn line_in_place(&self, pen: Pen<'_>, line: &Line) -> io::Result<()> {
        let (out, into) = line.ends;
        let ((left, from), (_, to)) = (self.at(out), self.at(into));
        let x = left + self.width;
        let apart = if out == into { self.manner.height / 4.0 } else { 0.0 };
        let (from, to) = (from - apart, to + apart);
        let path =
            format!("M{x:.1} {from:.1}C{far:.1} {from:.1} {far:.1} {to:.1} {x:.1} {to:.1}", far = x + 30.0);
        let tip = format!("M{:.1} {:.1}L{x:.1} {to:.1}L{:.1} {:.1}", x + 8.0, to - 4.0, x + 8.0, to + 4.0);
        back(pen, &path, &tip)
    }

    fn group(&self, pen: Pen<'_>, place: usize, group: &Outlined) -> io::Result<()> {
        let (x, y) = self.at(place);
        let (width, &Manner { height, letters: (large, small), one_line, .. }) = (self.width, self.manner);
        let (large_text, small_text) = (large.to_string(), small.to_string());
        let (fill, stroke, ink, quiet) = match (place, group.people) {
            (0, _) => ("#1f4e79", "#1f4e79", "#ffffff", "#dbe7f3"),
            (_, 0) => ("#ffffff", LINE, INK, QUIET),
            _ if group.in_cycle => ("#fdf1e2", CYCLE, INK, QUIET),
            _ => ("#eaf1f8", "#4f7ba6", INK, QUIET),
        };
        let dashes = if group.people == 0 { "4 3" } else { "none" };
        let number = |value: f64| format!("{value:.1}");
        pen.create_element("g").write_inner_content(|pen| {
            text_of(pen, "title", &[], &drawable(&group.dn))?;
            let (left, top) = (number(x), number(y - height / 2.0));
            let (wide, high) = (number(width), number(height));
            let attributes = [
                ("x", &*left),
                ("y", &top),
                ("width", &wide),
                ("height", &high),
                ("rx", "4"),
                ("fill", fill),
                ("stroke", stroke),
                ("stroke-dasharray", dashes),
            ];
            pen.create_element("rect").with_attributes(attributes).write_empty()?;
            let says = told(group, one_line);
            let indent = number(x + 8.0);
            let room = width - 16.0;
            let (name, base, second) = if one_line {
                let taken = as_height(says.width()) * small * LETTER + 14.0;
                (fitting(&short(&group.dn), room - taken, large), y + 4.0, y + 4.0)
            } else {
                // Bold letters are wider.
                (fitting(&short(&group.dn), room * 0.95, large), y - 0.22 * small, y + small)
            };
            let (base, second, end) = (number(base), number(second), number(x + width - 8.0));
            let weight = if one_line { "normal" } else { "bold" };
            let (at, anchor) = if one_line { (&end, "end") } else { (&indent, "start") };
            let above = [
                ("x", &*indent),
                ("y", &base),
                ("font-size", &large_text),
                ("font-weight", weight),
                ("fill", ink),
            ];
            text_of(pen, "text", &above, &name)?;
            let beside = [
                ("x", &**at),
                ("y", &second),
                ("font-size", &small_text),
                ("text-anchor", anchor),
                ("fill", quiet),
            ];
            text_of(pen, "text", &beside, &fitting(&says, room, small))
        })?;
        Ok(())
    }

    fn legend(&self, pen: Pen<'_>, height: f64, has_back: bool) -> io::Result<()> {
        let mut text =
            "A line leads from a group to its nested groups. People: direct members, and all members."
                .to_owned();
        if has_back {
            text.push_str(" Dashed: back to a group that contains it, a cycle.");
        }
        let words = "In no list: by primary group or login. Gone: the entry no longer exists. Outside: not among the intake's people.";
        for (line, up) in [(&*text, 36.0), (words, 18.0)] {
            let base = format!("{:.1}", height - up);
            text_of(pen, "text", &[("x", "30"), ("y", &base), ("font-size", "12"), ("fill", QUIET)], line)?;
        }
        Ok(())
    }
}

/// A line that points back, with its arrowhead.
fn back(pen: Pen<'_>, path: &str, tip: &str) -> io::Result<()> {
    for (path, dashes) in [(path, "5 4"), (tip, "none")] {
        let attributes = [
            ("d", path),
            ("fill", "none"),
            ("stroke", CYCLE),
            ("stroke-width", "1.5"),
            ("stroke-dasharray", dashes),
        ];
        pen.create_element("path").with_attributes(attributes).write_empty()?;
    }
    Ok(())
}

fn text_of(pen: Pen<'_>, name: &str, attributes: &[(&str, &str)], text: &str) -> io::Result<()> {
    let element = pen.create_element(name).with_attributes(attributes.iter().copied());
    element.write_text_content(BytesText::new(text)).map(|_| ())
}

#[cfg(test)]
mod tests {
    use super::*;
    use quick_xml::Reader;
    use webtaxon_core::ldap::name::{Dn, DnKey};
    use webtaxon_core::reading::{Reading, ReadingBuilder, Request, Source};
    use webtaxon_core::settings::Settings;

    const SETTINGS: &str = include_str!("../../../../demo/webtaxon.toml");
    const HOSTILE: &str = "CN=\\<script\\>alert(1)\\</script\\>\u{202e}\u{7}\\\"\\\\&\u{ffff},DC=x";

    fn dn(name: &str) -> String {
        if name.contains('=') { name.to_owned() } else { format!("CN={name},DC=x") }
    }

    fn key(name: &str) -> DnKey {
        Dn::parse(&dn(name)).unwrap().key()
    }

    fn reading(groups: &[(String, Vec<String>)], people: &[&str]) -> Reading {
        let mut sweep = ReadingBuilder::new(Source::default());
        for person in people {
            sweep.person(&dn("ada"), [("displayName", [person.as_bytes()])]).unwrap();
        }
        for (group, members) in groups {
            let names: Vec<String> = members.iter().map(|name| dn(name)).collect();
            let members = names.iter().map(|dn| (Dn::parse(dn).unwrap().key(), dn.as_str()));
            sweep.graph_mut().add_group(key(group), &dn(group), members);
        }
        sweep.finish_shown(&Request::of(&Settings::parse("", SETTINGS.as_bytes()).unwrap().intakes.first))
    }

    fn group(name: &str, members: &[&str]) -> (String, Vec<String>) {
        (name.to_owned(), members.iter().map(|member| (*member).to_owned()).collect())
    }

    /// The texts and the paths of a picture, which must be well formed.
    fn read(svg: &str) -> (Vec<String>, usize) {
        let mut reader = Reader::from_str(svg);
        let (mut texts, mut paths, mut text) = (Vec::new(), 0, String::new());
        loop {
            match reader.read_event().unwrap() {
                Event::Eof => return (texts, paths),
                Event::Empty(element) => paths += usize::from(element.name().as_ref() == "path"),
                Event::Text(piece) => text.push_str(&piece),
                Event::GeneralRef(piece) => {
                    text.push_str(match &*piece {
                        "lt" => "<",
                        "gt" => ">",
                        "amp" => "&",
                        "quot" => "\"",
                        "apos" => "'",
                        other => panic!("{other}"),
                    });
                }
                Event::End(_) => texts.push(std::mem::take(&mut text)),
                _ => {}
            }
        }
    }

    #[test]
    fn hostile_names_stay_text_everywhere() {
        let reading =
            reading(&[group("users", &["ada", HOSTILE]), group(HOSTILE, &["ada"])], &["=cmd|' /C calc'!A0"]);
        let nest = Nest::of(&reading, &key("users")).unwrap();
        let svg = nest_svg(&nest, true);
        let (texts, _) = read(&svg);
        assert!(!svg.contains("<script") && !svg.contains(['\u{202e}', '\u{7}', '\u{ffff}']), "{svg}");
        let shown = r"<script>alert(1)</script>\u{202e}";
        assert!(texts.iter().any(|text| text.contains(shown)), "{texts:?}");
        let dot = nest_dot(&nest);
        assert!(dot.contains(r#"alert(1)</script>\\u{202e}\\u{7}\"\\&"#), "{dot}");
        #[cfg(feature = "csv")]
        let table = crate::report::members_csv(&nest);
        #[cfg(feature = "csv")]
        assert!(
            table.starts_with(
                "name,dn,how,listed,groups,path\n'=cmd|' /C calc'!A0,\"CN=ada,DC=x\",directly,yes,1,"
            ),
            "{table}"
        );
    }

    #[test]
    fn each_group_is_drawn_once_and_a_cycle_leads_back() {
        let groups = [
            group("users", &["staff", "empty", "north"]),
            group("staff", &["north", "staff"]),
            group("north", &["coast", "ada"]),
            group("coast", &["north"]),
            group("empty", &[]),
        ];
        let reading = reading(&groups, &["Ada"]);
        let nest = Nest::of(&reading, &key("users")).unwrap();
        let (texts, paths) = read(&nest_svg(&nest, false));
        for text in ["users", "staff", "north", "coast", "empty", "nobody", "1, in a cycle"] {
            assert!(texts.iter().any(|one| one == text), "{text}: {texts:?}");
        }
        assert_eq!(texts.iter().filter(|text| *text == "north").count(), 1);
        assert!(texts.iter().any(|text| text.contains("there may be more")), "{texts:?}");
        assert_eq!(paths, 5 + 2 * 2, "five lines, and two that lead back, each with its tip");
        let dot = nest_dot(&nest);
        assert_eq!((dot.matches(" -> ").count(), dot.matches("dashed").count()), (7, 2), "{dot}");
    }

    #[test]
    fn a_nest_too_large_to_be_drawn_says_what_is_left_out() {
        let inner: Vec<String> = (0..2_000).map(|number| format!("g{number}")).collect();
        let mut groups = vec![("users".to_owned(), inner.clone())];
        groups.extend(inner.iter().map(|name| group(name, &["ada"])));
        let reading = reading(&groups, &["Ada"]);
        let svg = nest_svg(&Nest::of(&reading, &key("users")).unwrap(), true);
        let (texts, _) = read(&svg);
        assert!(
            texts.iter().any(|text| text.contains("1701 more groups are not drawn; 2000 groups inside")),
            "{texts:?}"
        );
    }
}
