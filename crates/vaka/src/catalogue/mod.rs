//! Catalogues as their users see them: what they say, which units are there for their releases, and the files that they
//! list.

mod attached;
mod cache;
mod http;
mod obtain;
mod opened;

pub use attached::{AttachedProduct, attached, wanted_product};
pub use obtain::{local, obtain, obtain_now};
pub use opened::{CheckedCatalogue, open, pick, read};
