//! Which modules of a crate import which, and the circles among them.
//!
//! A module imports another where its code names something that the other declares, by `use` or by a path. A name that a
//! module only re-exports (`pub use`) counts for the module that declares it; a module that re-exports its own children
//! is a table of contents and imports nothing by that. Code of tests is left out.

use std::collections::{BTreeMap, BTreeSet};

use proc_macro2::{TokenStream, TokenTree};
use syn::visit;
use syn::visit::Visit;

use crate::functions::of_tests;
use crate::{Package, SourceFile};

/// A module's path, such as `errors::list`; the root of the crate is empty.
pub type Module = Vec<String>;

/// Imports of one crate: from each module the modules it takes something from, with one such name each.
pub type Imports = BTreeMap<Module, BTreeMap<Module, String>>;

/// How deep re-exports of re-exports are followed.
const DEEPEST: usize = 8;

/// Finds who imports whom in one crate.
#[must_use]
pub fn of(package: &Package) -> Imports {
    let files: Vec<&SourceFile> = package.sources.iter().filter(|file| !file.is_test()).collect();
    let known: BTreeSet<Module> = files.iter().map(|file| file.module.clone()).collect();
    let read: Vec<(&SourceFile, Names)> = files.iter().map(|file| (*file, Names::of(file))).collect();
    let aliases: BTreeMap<Module, &BTreeMap<String, Vec<String>>> = read
        .iter()
        .map(|(file, names)| (file.module.clone(), &names.aliases))
        .collect();
    let crate_of = Crate {
        known: &known,
        aliases: &aliases,
    };
    let mut imports = Imports::new();
    for (file, names) in &read {
        let from = imports.entry(file.module.clone()).or_default();
        for path in &names.paths {
            let Some(to) = crate_of.declares(&file.module, path, 0) else {
                continue;
            };
            if to != file.module {
                from.entry(to).or_insert_with(|| path.join("::"));
            }
        }
    }
    imports
}

/// The circles: sets of modules each of which imports, directly or through others, all the others. Sorted.
#[must_use]
pub fn circles(imports: &Imports) -> Vec<Vec<Module>> {
    let reached: BTreeMap<&Module, BTreeSet<&Module>> = imports
        .keys()
        .map(|module| (module, reachable(imports, module)))
        .collect();
    let mut found: BTreeSet<Vec<Module>> = BTreeSet::new();
    for (module, reaches) in &reached {
        if reaches.contains(module) {
            let circle = reaches.iter().filter(|other| reached[**other].contains(module));
            found.insert(circle.map(|other| (*other).clone()).collect());
        }
    }
    found.into_iter().collect()
}

/// The same imports seen from above: between the modules right below the crate's root.
#[must_use]
pub fn of_folders(imports: &Imports) -> Imports {
    let top = |module: &Module| module.iter().take(1).cloned().collect::<Module>();
    let mut folders = Imports::new();
    for (from, all) in imports {
        let entry = folders.entry(top(from)).or_default();
        for (to, name) in all.iter().filter(|(to, _)| top(to) != top(from)) {
            entry
                .entry(top(to))
                .or_insert_with(|| format!("{} -> {name}", from.join("::")));
        }
    }
    folders
}

fn reachable<'a>(imports: &'a Imports, from: &'a Module) -> BTreeSet<&'a Module> {
    let mut seen = BTreeSet::new();
    let mut next = vec![from];
    while let Some(module) = next.pop() {
        for to in imports.get(module).into_iter().flat_map(BTreeMap::keys) {
            if seen.insert(to) {
                next.push(to);
            }
        }
    }
    seen
}

struct Crate<'a> {
    known: &'a BTreeSet<Module>,
    aliases: &'a BTreeMap<Module, &'a BTreeMap<String, Vec<String>>>,
}

impl Crate<'_> {
    /// The module that declares what a path names, as written in a module; none for a module itself, and for what is
    /// not of this crate.
    fn declares(&self, written_in: &Module, path: &[String], depth: usize) -> Option<Module> {
        if depth > DEEPEST {
            return None;
        }
        let mut at = written_in.clone();
        let mut rest = path;
        let mut first = true;
        while let Some((name, after)) = rest.split_first() {
            let mut child = at.clone();
            child.push(name.clone());
            match name.as_str() {
                "crate" if first => at.clear(),
                "self" if first => {}
                "super" => drop(at.pop()?),
                _ if self.known.contains(&child) => at = child,
                _ => {
                    return match self.aliases.get(&at).and_then(|aliases| aliases.get(name)) {
                        Some(alias) if alias != path || depth == 0 => {
                            let whole: Vec<String> = alias.iter().chain(after).cloned().collect();
                            self.declares(&at, &whole, depth + 1)
                        }
                        _ if first => None,
                        _ => Some(at),
                    };
                }
            }
            first = false;
            rest = after;
        }
        None
    }
}

/// What a file names of others.
#[derive(Default)]
struct Names {
    /// What `use` declares: the name it has here, and its path.
    aliases: BTreeMap<String, Vec<String>>,
    /// All paths that are written in it, less those that are only re-exported.
    paths: Vec<Vec<String>>,
}

impl Names {
    fn of(file: &SourceFile) -> Self {
        let mut names = Self::default();
        names.visit_file(&file.syntax);
        names
    }

    fn tree(&mut self, tree: &syn::UseTree, before: &[String], only_passed_on: bool) {
        let with = |name: &syn::Ident| before.iter().cloned().chain([name.to_string()]).collect::<Vec<_>>();
        match tree {
            syn::UseTree::Path(path) => self.tree(&path.tree, &with(&path.ident), only_passed_on),
            syn::UseTree::Group(group) => {
                group
                    .items
                    .iter()
                    .for_each(|item| self.tree(item, before, only_passed_on));
            }
            syn::UseTree::Name(name) if name.ident == "self" => self.named(before.to_vec(), None, only_passed_on),
            syn::UseTree::Name(name) => self.named(with(&name.ident), None, only_passed_on),
            syn::UseTree::Rename(rename) => {
                self.named(with(&rename.ident), Some(rename.rename.to_string()), only_passed_on);
            }
            syn::UseTree::Glob(_) => {}
        }
    }

    fn named(&mut self, path: Vec<String>, alias: Option<String>, only_passed_on: bool) {
        if let Some(name) = alias.or_else(|| path.last().cloned()) {
            self.aliases.insert(name, path.clone());
        }
        if !only_passed_on {
            self.paths.push(path);
        }
    }

    /// Paths within the arguments of a macro.
    fn tokens(&mut self, tokens: TokenStream) {
        let mut path: Vec<String> = Vec::new();
        let mut colons = 0;
        for token in tokens {
            match token {
                TokenTree::Ident(name) if path.is_empty() || colons == 2 => {
                    path.push(name.to_string());
                    colons = 0;
                }
                TokenTree::Punct(mark) if mark.as_char() == ':' && !path.is_empty() => colons += 1,
                other => {
                    self.keep(std::mem::take(&mut path));
                    colons = 0;
                    match other {
                        TokenTree::Group(group) => self.tokens(group.stream()),
                        TokenTree::Ident(name) => path.push(name.to_string()),
                        _ => {}
                    }
                }
            }
        }
        self.keep(path);
    }

    fn keep(&mut self, path: Vec<String>) {
        if path.len() > 1 {
            self.paths.push(path);
        }
    }
}

impl<'a> Visit<'a> for Names {
    fn visit_item_use(&mut self, item: &'a syn::ItemUse) {
        if !of_tests(&item.attrs) {
            self.tree(&item.tree, &[], !matches!(item.vis, syn::Visibility::Inherited));
        }
    }

    fn visit_item_mod(&mut self, module: &'a syn::ItemMod) {
        if !of_tests(&module.attrs) {
            visit::visit_item_mod(self, module);
        }
    }

    fn visit_item_fn(&mut self, function: &'a syn::ItemFn) {
        if !of_tests(&function.attrs) {
            visit::visit_item_fn(self, function);
        }
    }

    fn visit_path(&mut self, path: &'a syn::Path) {
        self.keep(path.segments.iter().map(|segment| segment.ident.to_string()).collect());
        visit::visit_path(self, path);
    }

    fn visit_macro(&mut self, call: &'a syn::Macro) {
        self.tokens(call.tokens.clone());
        visit::visit_macro(self, call);
    }
}

#[cfg(test)]
mod tests {
    use std::path::Path;

    use super::*;

    fn package(files: &[(&str, &str)]) -> Package {
        let sources = files
            .iter()
            .map(|(module, text)| {
                let module = module
                    .split("::")
                    .filter(|name| !name.is_empty())
                    .map(str::to_owned)
                    .collect();
                SourceFile::parse(Path::new("a.rs"), module, (*text).to_owned()).unwrap()
            })
            .collect();
        Package {
            name: "a".to_owned(),
            sources,
            tests: Vec::new(),
        }
    }

    fn shown(found: &[Vec<Module>]) -> Vec<String> {
        found
            .iter()
            .map(|circle| circle.iter().map(|m| m.join("::")).collect::<Vec<_>>().join(" "))
            .collect()
    }

    #[test]
    fn two_modules_that_import_each_other_are_a_circle_by_use_or_by_path() {
        let by_use = package(&[
            ("a", "use crate::b::B;"),
            ("b", "use super::a::A; pub struct B;"),
            ("c", ""),
        ]);
        assert_eq!(shown(&circles(&of(&by_use))), ["a b"]);
        let by_path = package(&[
            ("a", "fn f() { crate::b::g() }"),
            ("b", "fn g() { vec![crate::a::f()]; }"),
        ]);
        assert_eq!(shown(&circles(&of(&by_path))), ["a b"]);
    }

    #[test]
    fn what_is_passed_on_counts_for_who_declares_it() {
        let of_contents = package(&[
            ("", "mod errors; pub use errors::List;"),
            ("errors", "mod list; mod one; pub use list::List;"),
            ("errors::list", "pub struct List;"),
            ("errors::one", "use super::List; use crate::List as Again;"),
        ]);
        assert_eq!(shown(&circles(&of(&of_contents))), Vec::<String>::new());
        assert_eq!(of(&of_contents)[&vec!["errors".to_owned(), "one".to_owned()]].len(), 1);
    }

    #[test]
    fn a_parent_that_calls_its_child_and_gives_it_something_is_a_circle() {
        let both = package(&[
            ("a", "mod b; use b::f; pub struct A;"),
            ("a::b", "use super::A; pub fn f() {}"),
        ]);
        assert_eq!(shown(&circles(&of(&both))), ["a a::b"]);
    }

    #[test]
    fn circles_through_several_and_between_folders_are_found_and_tests_left_out() {
        let three = package(&[
            ("a", "mod x; mod y;"),
            ("a::x", "use crate::b::B;"),
            ("b", "use crate::c::C; pub struct B;"),
            ("c", "use crate::a::y::Y; pub struct C;"),
            ("a::y", "pub struct Y; #[cfg(test)] mod tests { use crate::a::x::X; }"),
        ]);
        let imports = of(&three);
        assert_eq!(shown(&circles(&imports)), Vec::<String>::new());
        assert_eq!(shown(&circles(&of_folders(&imports))), ["a b c"]);
    }
}
