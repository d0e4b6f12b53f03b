//! `#[derive(Parameters)]`: the parameters of a part of a shot, declared on their fields.
//!
//! ```ignore
//! #[derive(Parameters)]
//! pub struct Body {
//!     /// Coulomb friction coefficient, no unit.
//!     #[parameter(label = "Friction", range(0.0, 10.0), slide(0.0, 1.5), step = 0.01)]
//!     pub friction: f32,
//!     #[parameter(nested)]
//!     pub weight: Weight,
//! }
//! ```
//!
//! A field is a value of its own, or `nested`: a part with parameters of its own. The keys:
//!
//! | key | meaning |
//! | --- | --- |
//! | `label` | name on the Sheet; left out: made from the field's name |
//! | `words` | name in words such as "friction of Crate changed"; left out: made from the label |
//! | `range(low, high)` | least and greatest value, in the unit of the file |
//! | `most` | greatest value where that depends on other fields of the variant |
//! | `unit`, `scale` | unit on the Sheet, and the factor from the file's unit to it; left out: from the end of the field's name |
//! | `step`, `slide(low, high)` | step and ends of the slider on the Sheet, in its unit |
//! | `blank` | what the Sheet shows where there is no value |
//! | `fixed` | the same at every frame: it takes no keys |
//! | `colour` | three numbers that are a colour |
//! | `picture` | changes the picture only, in a type whose other values change the simulation |
//! | `parts("x", "z")` | names of the parts of a vector |
//!
//! On the type, `#[parameters(acts = Picture)]` says that its values change the picture only.

use proc_macro2::TokenStream;
use quote::quote;
use syn::parse::{Parse, ParseStream};
use syn::punctuated::Punctuated;
use syn::{
    Data, DeriveInput, Error, Expr, Field, Fields, Ident, LitStr, Result, Token, parenthesized,
    parse_macro_input,
};

/// Implements `shot::parameters::Parameters`; see the front page of the crate.
#[proc_macro_derive(Parameters, attributes(parameter, parameters))]
pub fn parameters(input: proc_macro::TokenStream) -> proc_macro::TokenStream {
    derive(&parse_macro_input!(input as DeriveInput)).unwrap_or_else(Error::into_compile_error).into()
}

/// What `#[parameter(…)]` says of a field.
#[derive(Default)]
struct Said {
    nested: bool,
    fixed: bool,
    colour: bool,
    picture: bool,
    label: Option<LitStr>,
    words: Option<LitStr>,
    unit: Option<LitStr>,
    blank: Option<LitStr>,
    scale: Option<Expr>,
    step: Option<Expr>,
    most: Option<Expr>,
    range: Option<[Expr; 2]>,
    slide: Option<[Expr; 2]>,
    parts: Vec<LitStr>,
}

impl Parse for Said {
    fn parse(input: ParseStream) -> Result<Self> {
        let mut said = Self::default();
        while !input.is_empty() {
            let key: Ident = input.parse()?;
            match key.to_string().as_str() {
                "nested" => said.nested = true,
                "fixed" => said.fixed = true,
                "colour" => said.colour = true,
                "picture" => said.picture = true,
                "range" => said.range = Some(pair(input)?),
                "slide" => said.slide = Some(pair(input)?),
                "parts" => {
                    let list;
                    parenthesized!(list in input);
                    said.parts =
                        Punctuated::<LitStr, Token![,]>::parse_terminated(&list)?.into_iter().collect();
                }
                other => {
                    input.parse::<Token![=]>()?;
                    match other {
                        "label" => said.label = Some(input.parse()?),
                        "words" => said.words = Some(input.parse()?),
                        "unit" => said.unit = Some(input.parse()?),
                        "blank" => said.blank = Some(input.parse()?),
                        "scale" => said.scale = Some(input.parse()?),
                        "step" => said.step = Some(input.parse()?),
                        "most" => said.most = Some(input.parse()?),
                        _ => return Err(Error::new(key.span(), "no such key of a parameter")),
                    }
                }
            }
            if !input.is_empty() {
                input.parse::<Token![,]>()?;
            }
        }
        Ok(said)
    }
}

fn pair(input: ParseStream) -> Result<[Expr; 2]> {
    let list;
    parenthesized!(list in input);
    let both: Vec<Expr> = Punctuated::<Expr, Token![,]>::parse_terminated(&list)?.into_iter().collect();
    both.try_into().map_err(|_| list.error("give two numbers"))
}

/// A field with a parameter: what it is called in the file, how it is reached, and what is said.
struct Declared<'a> {
    field: &'a Field,
    /// Name in the file; empty for the value of a variant itself.
    name: String,
    /// A place to borrow mutably.
    place: TokenStream,
    said: Said,
}

fn derive(input: &DeriveInput) -> Result<TokenStream> {
    let acts = acts(input)?;
    let (owner, name) = (input.ident.to_string(), &input.ident);
    let (visit, declare) = match &input.data {
        Data::Struct(data) => {
            let fields = declared(&data.fields, |name, _| quote!(self.#name))?;
            body(&owner, None, &fields, &acts)
        }
        Data::Enum(data) => {
            let (mut arms, mut declarations) = (Vec::new(), Vec::new());
            for variant in &data.variants {
                let fields = declared(&variant.fields, |name, _| quote!(*#name))?;
                if fields.is_empty() {
                    continue;
                }
                let in_file = snake_case(&variant.ident.to_string());
                let (visit, declare) = body(&owner, Some(&in_file), &fields, &acts);
                let ident = &variant.ident;
                let pattern = match &variant.fields {
                    Fields::Named(_) => {
                        let names = fields.iter().map(|of| of.field.ident.as_ref().expect("named"));
                        quote!(Self::#ident { #(#names,)* .. })
                    }
                    _ => quote!(Self::#ident(value)),
                };
                arms.push(quote!(#pattern => {
                    let path = &path.field(#in_file);
                    #visit
                }));
                declarations.push(declare);
            }
            let visit = quote! {
                #[allow(unreachable_patterns)]
                match self { #(#arms)* _ => {} }
            };
            (visit, quote!(#(#declarations)*))
        }
        Data::Union(_) => return Err(Error::new_spanned(input, "a union has no parameters")),
    };
    Ok(quote! {
        impl crate::parameters::Parameters for #name {
            fn visit(&mut self, path: &crate::parameters::Path<'_>, v: crate::parameters::Visit<'_>) {
                let _ = (&path, &v);
                #visit
            }

            fn declare(declarations: &mut crate::parameters::Declarations) {
                if declarations.begin(#owner) {
                    #declare
                }
            }
        }
    })
}

/// What the values of a type act on.
fn acts(input: &DeriveInput) -> Result<TokenStream> {
    let mut acts = quote!(Simulation);
    for attribute in input.attrs.iter().filter(|of| of.path().is_ident("parameters")) {
        attribute.parse_nested_meta(|meta| {
            let value: Ident = meta.value()?.parse()?;
            acts = quote!(#value);
            if meta.path.is_ident("acts") { Ok(()) } else { Err(meta.error("no such key")) }
        })?;
    }
    Ok(quote!(crate::parameters::Acts::#acts))
}

fn declared(fields: &Fields, place: impl Fn(&Ident, usize) -> TokenStream) -> Result<Vec<Declared<'_>>> {
    let mut list = Vec::new();
    for (i, field) in fields.iter().enumerate() {
        let Some(attribute) = field.attrs.iter().find(|of| of.path().is_ident("parameter")) else { continue };
        let said: Said = match &attribute.meta {
            syn::Meta::Path(_) => Said::default(),
            _ => attribute.parse_args()?,
        };
        let value = Ident::new("value", proc_macro2::Span::call_site());
        let ident = field.ident.as_ref().unwrap_or(&value);
        let name = field.ident.as_ref().map_or_else(String::new, ToString::to_string);
        list.push(Declared { field, name, place: place(ident, i), said });
    }
    Ok(list)
}

/// The visits and the declarations of fields.
fn body(
    owner: &str,
    variant: Option<&str>,
    fields: &[Declared],
    acts: &TokenStream,
) -> (TokenStream, TokenStream) {
    let (mut visits, mut declarations) = (Vec::new(), Vec::new());
    for Declared { field, name, place, said } in fields {
        let ty = &field.ty;
        let path = if name.is_empty() { quote!(path) } else { quote!(&path.field(#name)) };
        if said.nested {
            visits.push(quote!(crate::parameters::Parameters::visit(&mut #place, #path, v);));
            declarations.push(quote!(<#ty as crate::parameters::Parameters>::declare(declarations);));
            continue;
        }
        let declaration = declaration(owner, variant, name, ty, said, acts);
        let high = said.most.as_ref().map_or_else(|| quote!(DECLARATION.high), |most| quote!(#most));
        // The end of a range may be read from fields that are borrowed afterwards.
        visits.push(quote! {{
            static DECLARATION: crate::parameters::Declaration = #declaration;
            let bounds = crate::parameters::Bounds {
                low: DECLARATION.low,
                high: #high,
                declaration: &DECLARATION,
            };
            crate::parameters::ParameterField::visit(&mut #place, #path, bounds, v);
        }});
        declarations.push(quote! {{
            static DECLARATION: crate::parameters::Declaration = #declaration;
            declarations.push(&DECLARATION);
        }});
    }
    (quote!(#(#visits)*), quote!(#(#declarations)*))
}

fn declaration(
    owner: &str,
    variant: Option<&str>,
    name: &str,
    ty: &syn::Type,
    said: &Said,
    acts: &TokenStream,
) -> TokenStream {
    // The value of a variant itself, such as a density or a mass, is called as the variant.
    let called = if name.is_empty() { variant.unwrap_or_default() } else { name };
    let (plain, unit, scale) = named_unit(called);
    let label = said.label.as_ref().map_or_else(|| capital(plain), LitStr::value);
    let words = said.words.as_ref().map_or_else(|| in_a_sentence(&label), LitStr::value);
    let unit = said.unit.as_ref().map_or_else(|| unit.to_owned(), LitStr::value);
    let scale = said.scale.as_ref().map_or_else(|| quote!(#scale), |scale| quote!(#scale));
    let option = |text: Option<String>| text.map_or_else(|| quote!(None), |text| quote!(Some(#text)));
    let (variant, blank) =
        (option(variant.map(str::to_owned)), option(said.blank.as_ref().map(LitStr::value)));
    let [low, high] = match &said.range {
        Some([low, high]) => [quote!(#low), quote!(#high)],
        None => [quote!(0.0), quote!(1.0)],
    };
    let step = said.step.as_ref().map_or_else(|| quote!(0.1), |step| quote!(#step));
    let slide = match &said.slide {
        Some([low, high]) => quote!(Some((#low, #high))),
        None => quote!(None),
    };
    let (fixed, colour, parts) = (said.fixed, said.colour, &said.parts);
    let acts = if said.picture { quote!(crate::parameters::Acts::Picture) } else { acts.clone() };
    quote! {
        crate::parameters::Declaration {
            owner: #owner,
            variant: #variant,
            field: #name,
            label: #label,
            words: #words,
            unit: #unit,
            scale: #scale,
            low: #low,
            high: #high,
            step: #step,
            slide: #slide,
            blank: #blank,
            keyed: !#fixed && <#ty as crate::parameters::ParameterField>::CAN_BE_KEYED,
            colour: #colour,
            parts: &[#(#parts),*],
            kind: <#ty as crate::parameters::ParameterField>::KIND,
            acts: #acts,
        }
    }
}

/// Ends of names, with the unit on the Sheet and the factor to it.
const UNITS: [(&str, &str, f32); 12] = [
    ("_n_s_m", "N s/m", 1.0),
    ("_kg_m3", "kg/m³", 1.0),
    ("_rad_s", "rad/s", 1.0),
    ("_m_s2", "m/s²", 1.0),
    ("_m_s", "m/s", 1.0),
    ("_n_s", "N s", 1.0),
    ("_rad", "°", 180.0 / std::f32::consts::PI),
    ("_mm", "mm", 1.0),
    ("_kg", "kg", 1.0),
    ("_n", "N", 1.0),
    ("_s", "s", 1.0),
    ("_m", "m", 1.0),
];

/// A name without its unit, the unit on the Sheet and the factor to it.
fn named_unit(name: &str) -> (&str, &'static str, f32) {
    UNITS
        .iter()
        .find_map(|&(end, unit, scale)| Some((name.strip_suffix(end)?, unit, scale)))
        .unwrap_or((name, "", 1.0))
}

/// A label within a sentence: `speed variation` for `± speed`.
fn in_a_sentence(label: &str) -> String {
    match label.strip_prefix("± ") {
        Some(of) => format!("{of} variation"),
        None => label.to_lowercase(),
    }
}

fn capital(name: &str) -> String {
    let words = name.replace('_', " ");
    let mut letters = words.chars();
    letters.next().map_or_else(String::new, |first| first.to_uppercase().chain(letters).collect())
}

/// As serde writes the name of a variant.
fn snake_case(name: &str) -> String {
    let mut snake = String::new();
    for (i, letter) in name.char_indices() {
        if i > 0 && letter.is_uppercase() {
            snake.push('_');
        }
        snake.extend(letter.to_lowercase());
    }
    snake
}
