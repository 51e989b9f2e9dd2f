//! All tests in one program: it is linked once, and slow tests run beside quick ones.

mod added;
mod damage;
mod damaged;
mod files;
mod folder;
mod former;
mod journal;
mod lengthened;
mod reads;
mod recognise;
mod reparse;
mod resize;
mod shapes;
mod support;
mod survey;
mod walk;
mod within;
// What is within leans on it.
#[allow(dead_code)]
#[path = "../src/finding.rs"]
mod finding;
