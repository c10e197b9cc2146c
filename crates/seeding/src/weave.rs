//! Writing changes into a source beside what they change.

use std::collections::HashMap;
use std::ops::Range;

use anyhow::{Context, Result};
use syn::spanned::Spanned;
use syn::visit::{self, Visit};

use crate::{Change, Genre, Place, Span};

/// What each crate gets at the end of its root: the variable `SEEDED` holds the number of the change that is alive.
pub const SWITCH: &str = r#"
#[doc(hidden)]
pub(crate) fn seeded_change(number: u32) -> bool {
    static ALIVE: std::sync::LazyLock<Option<u32>> =
        std::sync::LazyLock::new(|| std::env::var("SEEDED").ok().and_then(|number| number.parse().ok()));
    *ALIVE == Some(number)
}
"#;

/// A source with changes in it.
pub struct Woven {
    /// The source.
    pub text: String,
    /// Changes that are not in it, with the reason: in constants, in conditions that bind, within another change.
    pub without: Vec<(u32, &'static str)>,
}

/// The source with each change compiled in beside what it changes, alive where `seeded_change` says its number.
///
/// # Errors
/// Where the source is not Rust.
pub fn weave(source: &str, changes: &[(u32, Change)]) -> Result<Woven> {
    let file = syn::parse_file(source).context("the source is not Rust")?;
    let lines = Lines::of(source);
    let mut finder = Finder { sites: HashMap::new(), constant: 0 };
    finder.visit_file(&file);
    let mut insertions: Vec<(usize, String)> = Vec::new();
    let mut taken: Vec<Range<usize>> = Vec::new();
    let mut without = Vec::new();
    for (number, change) in changes {
        let span = lines.range(change.span);
        let Some(edit) = finder
            .sites
            .get(&(change.genre as u8, span.start))
            .and_then(|site| site.edit(source, &span, *number, change))
        else {
            without.push((*number, "in a constant or a condition that binds"));
            continue;
        };
        if taken.iter().any(|other| other.start < edit.copied.end && edit.copied.start < other.end) {
            without.push((*number, "within another change"));
            continue;
        }
        taken.push(edit.copied);
        insertions.extend(edit.insertions);
    }
    insertions.sort_by_key(|(at, _)| *at);
    let mut text =
        String::with_capacity(source.len() + insertions.iter().map(|(_, added)| added.len()).sum::<usize>());
    let mut from = 0;
    for (at, added) in &insertions {
        text += &source[from..*at];
        text += added;
        from = *at;
    }
    text += &source[from..];
    Ok(Woven { text, without })
}

/// Where the lines of a source begin.
struct Lines<'a> {
    source: &'a str,
    starts: Vec<usize>,
}

impl Lines<'_> {
    fn of(source: &str) -> Lines<'_> {
        Lines {
            source,
            starts: std::iter::once(0).chain(source.match_indices('\n').map(|(at, _)| at + 1)).collect(),
        }
    }

    fn offset(&self, place: Place) -> usize {
        let line = &self.source[self.starts[place.line - 1]..];
        self.starts[place.line - 1]
            + line.char_indices().nth(place.column - 1).map_or(line.len(), |(at, _)| at)
    }

    fn range(&self, span: Span) -> Range<usize> {
        self.offset(span.start)..self.offset(span.end)
    }
}

/// What a change at some place needs to know of what stands around it.
enum Site {
    /// An expression that is written twice, once changed.
    Expression(Range<usize>),
    /// A function's statements.
    Body,
    /// An arm: the end of its pattern, and its guard.
    Arm { pattern_end: usize, guard: Option<Range<usize>> },
    /// A field of a literal, with its comma, and the literal.
    Field { literal: Range<usize>, field: Range<usize> },
}

/// What is written in, and the range that is written twice by it (empty where none is).
struct Edit {
    insertions: Vec<(usize, String)>,
    copied: Range<usize>,
}

impl Site {
    fn edit(&self, source: &str, span: &Range<usize>, number: u32, change: &Change) -> Option<Edit> {
        let alive = format!("crate::seeded_change({number})");
        let replacement = &change.replacement;
        Some(match self {
            Site::Expression(whole) => {
                let changed = one_line(&format!(
                    "{}{replacement}{}",
                    &source[whole.start..span.start],
                    &source[span.end..whole.end]
                ));
                twice(whole, &alive, &changed)
            }
            Site::Field { literal, field } => {
                let changed = one_line(&format!(
                    "{}{}",
                    &source[literal.start..field.start],
                    &source[field.end..literal.end]
                ));
                twice(literal, &alive, &changed)
            }
            Site::Body => Edit {
                insertions: vec![(span.start, format!("if {alive} {{ return {replacement}; }} "))],
                copied: span.start..span.start,
            },
            Site::Arm { pattern_end, guard } => match (change.genre, guard) {
                (Genre::MatchArm, None) => Edit {
                    insertions: vec![(*pattern_end, format!(" if !{alive}"))],
                    copied: *pattern_end..*pattern_end,
                },
                (Genre::MatchArm, Some(guard)) => Edit {
                    insertions: vec![(guard.start, format!("!{alive} && (")), (guard.end, ")".to_owned())],
                    copied: guard.clone(),
                },
                (Genre::MatchArmGuard, Some(guard)) => twice(guard, &alive, replacement),
                _ => return None,
            },
        })
    }
}

fn twice(whole: &Range<usize>, alive: &str, changed: &str) -> Edit {
    Edit {
        insertions: vec![
            (whole.start, format!("(if {alive} {{ {changed} }} else {{ ")),
            (whole.end, " })".to_owned()),
        ],
        copied: whole.clone(),
    }
}

/// On one line, so that the lines behind keep their numbers; what is said in comments is left out.
fn one_line(text: &str) -> String {
    text.lines()
        .map(|line| line.split(" // ").next().unwrap_or(line).trim())
        .filter(|line| !line.is_empty() && !line.starts_with("//"))
        .collect::<Vec<_>>()
        .join(" ")
}

/// Every place that can be changed, by the genre and where its span begins.
struct Finder {
    sites: HashMap<(u8, usize), Site>,
    /// How many constants are around.
    constant: usize,
}

impl Finder {
    fn found(&mut self, genre: Genre, at: usize, site: Site) {
        if self.constant == 0 {
            self.sites.insert((genre as u8, at), site);
        }
    }

    fn function(&mut self, signature: &syn::Signature, block: &syn::Block) {
        let constant = usize::from(signature.constness.is_some());
        self.constant += constant;
        if let Some(first) = block.stmts.first() {
            self.found(Genre::FnValue, start(first), Site::Body);
        }
        visit::visit_block(self, block);
        self.constant -= constant;
    }
}

/// Where something begins, doc comments and attributes included.
fn start(node: &impl Spanned) -> usize {
    node.span().byte_range().start
}

impl<'ast> Visit<'ast> for Finder {
    fn visit_item_fn(&mut self, item: &'ast syn::ItemFn) {
        self.function(&item.sig, &item.block);
    }

    fn visit_impl_item_fn(&mut self, item: &'ast syn::ImplItemFn) {
        self.function(&item.sig, &item.block);
    }

    fn visit_item_const(&mut self, item: &'ast syn::ItemConst) {
        self.constant += 1;
        visit::visit_item_const(self, item);
        self.constant -= 1;
    }

    fn visit_impl_item_const(&mut self, item: &'ast syn::ImplItemConst) {
        self.constant += 1;
        visit::visit_impl_item_const(self, item);
        self.constant -= 1;
    }

    fn visit_item_static(&mut self, item: &'ast syn::ItemStatic) {
        self.constant += 1;
        visit::visit_item_static(self, item);
        self.constant -= 1;
    }

    fn visit_expr_binary(&mut self, expression: &'ast syn::ExprBinary) {
        if !binds(&expression.left) && !binds(&expression.right) {
            self.found(
                Genre::BinaryOperator,
                start(&expression.op),
                Site::Expression(expression.span().byte_range()),
            );
        }
        visit::visit_expr_binary(self, expression);
    }

    fn visit_expr_unary(&mut self, expression: &'ast syn::ExprUnary) {
        self.found(
            Genre::UnaryOperator,
            start(&expression.op),
            Site::Expression(expression.span().byte_range()),
        );
        visit::visit_expr_unary(self, expression);
    }

    fn visit_arm(&mut self, arm: &'ast syn::Arm) {
        let guard = arm.guard.as_ref().map(|(_, guard)| guard.span().byte_range());
        let pattern_end = arm.pat.span().byte_range().end;
        if let Some(guard) = guard.clone() {
            self.found(Genre::MatchArmGuard, guard.start, Site::Arm { pattern_end, guard: Some(guard) });
        }
        self.found(Genre::MatchArm, start(arm), Site::Arm { pattern_end, guard });
        visit::visit_arm(self, arm);
    }

    fn visit_expr_struct(&mut self, literal: &'ast syn::ExprStruct) {
        for pair in literal.fields.pairs() {
            let field = pair.value().span().byte_range();
            let end = pair.punct().map_or(field.end, |comma| comma.span().byte_range().end);
            let site = Site::Field { literal: literal.span().byte_range(), field: field.start..end };
            self.found(Genre::StructField, field.start, site);
        }
        visit::visit_expr_struct(self, literal);
    }
}

/// Whether a condition binds a name, which it could not within brackets.
fn binds(expression: &syn::Expr) -> bool {
    match expression {
        syn::Expr::Let(_) => true,
        syn::Expr::Binary(both) => binds(&both.left) || binds(&both.right),
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The text with a change of `what`, which stands in it once.
    fn woven(source: &str, genre: &str, what: &str, replacement: &str) -> Woven {
        let at = source.find(what).expect("what is changed");
        let line = source[..at].matches('\n').count() + 1;
        let column = at - source[..at].rfind('\n').map_or(0, |end| end + 1) + 1;
        let change = serde_json::json!({ "file": "", "genre": genre, "replacement": replacement, "name": "",
            "span": { "start": { "line": line, "column": column }, "end": { "line": line, "column": column + what.len() } } });
        weave(source, &[(3, Change::from_json(&change.to_string()).expect("a change"))]).expect("Rust")
    }

    #[test]
    fn each_kind_of_change_stands_beside_what_it_changes() {
        let cases = [
            (
                "fn f(a: bool) -> bool { !a }",
                "UnaryOperator",
                "!",
                "",
                "fn f(a: bool) -> bool { (if crate::seeded_change(3) { a } else { !a }) }",
            ),
            (
                "fn f() -> u8 { g(); 2 }",
                "FnValue",
                "g(); 2",
                "0",
                "fn f() -> u8 { if crate::seeded_change(3) { return 0; } g(); 2 }",
            ),
            (
                "fn f() { match x { Some(1) => 2, _ => 3 } }",
                "MatchArm",
                "Some(1) => 2",
                "",
                "fn f() { match x { Some(1) if !crate::seeded_change(3) => 2, _ => 3 } }",
            ),
            (
                "fn f() { match x { 1 if a || b => 2, _ => 3 } }",
                "MatchArm",
                "1 if a || b => 2",
                "",
                "fn f() { match x { 1 if !crate::seeded_change(3) && (a || b) => 2, _ => 3 } }",
            ),
            (
                "fn f() { match x { 1 if ok => 2, _ => 3 } }",
                "MatchArmGuard",
                "ok",
                "true",
                "fn f() { match x { 1 if (if crate::seeded_change(3) { true } else { ok }) => 2, _ => 3 } }",
            ),
            (
                "fn f() { S { a: 1, b: 2, ..s } }",
                "StructField",
                "a: 1",
                "",
                "fn f() { (if crate::seeded_change(3) { S {  b: 2, ..s } } else { S { a: 1, b: 2, ..s } }) }",
            ),
        ];
        for (source, genre, what, replacement, wanted) in cases {
            let woven = woven(source, genre, what, replacement);
            assert_eq!(woven.text, wanted);
            assert!(woven.without.is_empty());
            syn::parse_file(&woven.text).expect("still Rust");
        }
    }

    #[test]
    fn lines_stay_where_they_are() {
        let source = "fn f() -> f64 {\n    a\n        + // why\n        // more\n        b\n}\n";
        let woven = woven(source, "BinaryOperator", "+", "-");
        assert_eq!(woven.text.lines().count(), source.lines().count());
        assert!(woven.text.contains("{ a - b } else {"), "{}", woven.text);
    }

    #[test]
    fn what_cannot_be_chosen_while_running_is_left_out_and_said() {
        for (source, what) in [
            ("const A: u8 = 1 + 2;", "+"),
            ("const fn f() -> u8 { 1 + 2 }", "+"),
            ("fn f() { if let Some(a) = b && a { } }", "&&"),
        ] {
            let woven = woven(source, "BinaryOperator", what, "-");
            assert_eq!(woven.text, source);
            assert_eq!(woven.without.len(), 1);
        }
    }
}
