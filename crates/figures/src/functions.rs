//! The functions and public items of a file, its tests left out.

use syn::spanned::Spanned;
use syn::visit;
use syn::visit::Visit;

use crate::SourceFile;

/// A function with a body.
#[derive(Clone, Debug)]
pub(crate) struct Function {
    pub name: String,
    /// Where it begins, counted from 1.
    pub line: usize,
    /// From its signature to its closing brace.
    pub lines: usize,
    /// Without `self`.
    pub arguments: usize,
}

/// What one file declares.
#[derive(Clone, Debug, Default)]
pub(crate) struct Declared {
    pub functions: Vec<Function>,
    pub public_items: usize,
    pub documented: usize,
}

impl Declared {
    pub fn of(file: &SourceFile) -> Self {
        let mut declared = Self::default();
        declared.visit_file(&file.syntax);
        declared
    }

    fn function(&mut self, signature: &syn::Signature, body: &syn::Block) {
        let line = signature.span().start().line;
        self.functions.push(Function {
            name: signature.ident.to_string(),
            line,
            lines: body.span().end().line + 1 - line,
            arguments: signature
                .inputs
                .iter()
                .filter(|input| matches!(input, syn::FnArg::Typed(_)))
                .count(),
        });
    }

    fn item(&mut self, visibility: &syn::Visibility, attributes: &[syn::Attribute]) {
        if matches!(visibility, syn::Visibility::Public(_)) {
            self.public_items += 1;
            self.documented += usize::from(attributes.iter().any(|attribute| attribute.path().is_ident("doc")));
        }
    }
}

/// Whether an item is only there for tests.
pub(crate) fn of_tests(attributes: &[syn::Attribute]) -> bool {
    attributes.iter().any(|attribute| {
        attribute.path().is_ident("test")
            || (attribute.path().is_ident("cfg")
                && matches!(&attribute.meta, syn::Meta::List(list) if list.tokens.to_string() == "test"))
    })
}

impl<'a> Visit<'a> for Declared {
    fn visit_item_fn(&mut self, function: &'a syn::ItemFn) {
        if !of_tests(&function.attrs) {
            self.item(&function.vis, &function.attrs);
            self.function(&function.sig, &function.block);
            visit::visit_item_fn(self, function);
        }
    }

    fn visit_impl_item_fn(&mut self, function: &'a syn::ImplItemFn) {
        if !of_tests(&function.attrs) {
            self.item(&function.vis, &function.attrs);
            self.function(&function.sig, &function.block);
            visit::visit_impl_item_fn(self, function);
        }
    }

    fn visit_trait_item_fn(&mut self, function: &'a syn::TraitItemFn) {
        if let Some(body) = &function.default {
            self.function(&function.sig, body);
        }
        visit::visit_trait_item_fn(self, function);
    }

    fn visit_item_mod(&mut self, module: &'a syn::ItemMod) {
        if !of_tests(&module.attrs) {
            visit::visit_item_mod(self, module);
        }
    }

    fn visit_item_struct(&mut self, item: &'a syn::ItemStruct) {
        self.item(&item.vis, &item.attrs);
    }

    fn visit_item_enum(&mut self, item: &'a syn::ItemEnum) {
        self.item(&item.vis, &item.attrs);
    }

    fn visit_item_trait(&mut self, item: &'a syn::ItemTrait) {
        self.item(&item.vis, &item.attrs);
        visit::visit_item_trait(self, item);
    }

    fn visit_item_const(&mut self, item: &'a syn::ItemConst) {
        self.item(&item.vis, &item.attrs);
    }

    fn visit_item_type(&mut self, item: &'a syn::ItemType) {
        self.item(&item.vis, &item.attrs);
    }
}

#[cfg(test)]
mod tests {
    use std::path::Path;

    use super::*;

    #[test]
    fn functions_are_measured_and_those_of_tests_left_out() {
        let text = "/// Documented.\npub fn a(x: u8, y: u8) {\n    x;\n}\n\
            impl B {\n    pub fn c(&self, x: u8) {}\n}\n\
            #[cfg(test)]\nmod tests {\n    #[test]\n    fn d() {}\n}\n";
        let file = SourceFile::parse(Path::new("a.rs"), vec![], text.to_owned()).unwrap();
        let declared = Declared::of(&file);
        let found: Vec<_> = declared
            .functions
            .iter()
            .map(|f| (f.name.as_str(), f.line, f.lines, f.arguments))
            .collect();
        assert_eq!(found, [("a", 2, 3, 2), ("c", 6, 1, 1)]);
        assert_eq!((declared.public_items, declared.documented), (2, 1));
    }
}
