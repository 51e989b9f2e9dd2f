//! What starts a virtual machine, or takes such a machine's disk apart: slow, and in no hurry. The test command runs these at low
//! priority beside all others, which leave processors idle while they wait for screens, disks and servers.

mod boot;
mod breakages;
mod chain;
mod health;
mod layouts;
mod support;
