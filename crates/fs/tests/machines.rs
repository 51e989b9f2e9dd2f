//! What starts a virtual machine: slow, and in no hurry. The test command runs it at low priority beside all other tests.

mod kernels;
mod support;
