//! What tests make for themselves: Debian-format repositories with signatures, and an HTTP server that can be told
//! to misbehave. Nothing here is part of the program.

mod debian;
mod server;

pub use debian::{Deb, Mirror, Signer, Suite};
pub use server::{Fault, Server};
