//! The parts of the service that can be looked at without starting it, and one that is started in this process.

mod parts;
mod running;
