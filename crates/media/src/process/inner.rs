//! The process that decodes, from within.

use super::confine::{confine, renew_time};
use super::region::Region;
use super::words::{Answer, Order, receive, send};
use crate::bench::{Benches, Canvas, Out, Said, Work};
use lattice_core::Mono;
use nix::time::ClockId;
use std::collections::HashMap;
use std::io;
use std::os::fd::{AsFd, OwnedFd};
use std::process::ExitCode;
use std::time::Duration;

/// Decodes what comes by the standard input, until that is closed: the body of a process that [`crate::Pool::outside`] starts.
///
/// Before it takes the first unit it gives up files, network and most of the system's calls, as far as this machine can.
#[must_use]
pub fn decoder_main() -> ExitCode {
    let Ok(socket) = io::stdin().as_fd().try_clone_to_owned() else { return ExitCode::FAILURE };
    if nix::sys::socket::getsockopt(&socket, nix::sys::socket::sockopt::SockType) != Ok(nix::sys::socket::SockType::SeqPacket) {
        eprintln!("amber-lattice starts its decoders by itself: there is nothing to do here by hand");
        return ExitCode::from(2);
    }
    // What a decoder says of its own end is known by the end.
    std::panic::set_hook(Box::new(|_| {}));
    let holds = confine();
    if send(&socket, &Answer::Ready(holds), &[]).is_err() {
        return ExitCode::FAILURE;
    }
    match (Inner { socket, benches: Benches::default(), regions: HashMap::new(), units: None }).run() {
        Ok(()) => ExitCode::SUCCESS,
        Err(_) => ExitCode::FAILURE,
    }
}

struct Inner {
    socket: OwnedFd,
    benches: Benches,
    regions: HashMap<u32, Region>,
    units: Option<Region>,
}

impl Inner {
    fn run(&mut self) -> io::Result<()> {
        let mut buffer = Vec::new();
        loop {
            let (order, files) = match receive::<Order>(&self.socket, &mut buffer) {
                Ok(Some(message)) => message,
                Ok(None) => return Ok(()),
                Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
                Err(error) => return Err(error),
            };
            renew_time();
            self.take(&order, &files)?;
        }
    }

    fn take(&mut self, order: &Order, files: &[OwnedFd]) -> io::Result<()> {
        for number in &order.gone {
            self.regions.remove(number);
        }
        order.forgotten.iter().for_each(|lane| self.benches.forget(*lane));
        for ((number, bytes), file) in order.regions.iter().zip(files) {
            let region = Region::open(file, *bytes)?;
            match number {
                0 => self.units = Some(region),
                number => drop(self.regions.insert(*number, region)),
            }
        }
        let Some(units) = &self.units else { return Err(io::ErrorKind::InvalidData.into()) };
        // Out of the table while they are written.
        let numbers = std::iter::once(order.still).chain(order.canvases.iter().copied().map(Some));
        let mut canvases: Vec<Option<(u32, Region)>> = numbers
            .map(|number| {
                let number = number?;
                Some((number, self.regions.remove(&number)?))
            })
            .collect();
        let mut looks = order.looks;
        let last = order.units.len().saturating_sub(1);
        for (index, (head, from, bytes)) in order.units.iter().enumerate() {
            let data = units.bytes(units.len()).get(*from..).and_then(|rest| rest.get(..*bytes));
            let data = data.ok_or(io::ErrorKind::InvalidData)?;
            let mut post = Post { said: Vec::new(), canvases: &mut canvases, clocks: order.clocks };
            let work = Work { head, data, prints: &order.prints, newest: index == last };
            let done = self.benches.decode(order.lane, &work, &mut looks, &mut post);
            let answer = if done.is_ok() { Answer::Unit(post.said) } else { Answer::Panicked };
            send(&self.socket, &answer, &[])?;
        }
        self.regions.extend(canvases.into_iter().flatten());
        // A decoder that is gone had megabytes, which are the system's again.
        if !order.forgotten.is_empty() || order.units.iter().any(|(head, ..)| head.new_parameters) {
            give_back();
        }
        Ok(())
    }
}

/// Gives memory that nothing uses back to the system: the allocator would keep it for later.
fn give_back() {
    #[cfg(target_env = "gnu")]
    // SAFETY: it only releases what is free, and takes no pointer.
    unsafe {
        libc::malloc_trim(0);
    }
}

/// The system's monotonic clock, which all its processes share.
pub(super) fn system_clock() -> Duration {
    ClockId::CLOCK_MONOTONIC.now().map(Duration::from).unwrap_or_default()
}

/// Gathers what is said of one unit.
struct Post<'a> {
    said: Vec<Said>,
    canvases: &'a mut [Option<(u32, Region)>],
    clocks: (Mono, Duration),
}

impl Out for Post<'_> {
    fn canvas(&mut self, which: Canvas, bytes: usize) -> Option<&mut [u8]> {
        let region = self.canvases.get_mut(which.place()).and_then(Option::as_mut).map(|(_, region)| region);
        let fits = region.as_ref().is_some_and(|region| region.len() >= bytes);
        if !fits {
            self.said.push(Said::Short(which, bytes));
            return None;
        }
        region?.bytes_mut(bytes)
    }

    fn say(&mut self, said: Said) {
        if let Said::Picture(which, _) = said {
            // The one before it was painted over.
            self.said.retain(|before| !matches!(before, Said::Picture(canvas, _) if *canvas == which));
        }
        self.said.push(said);
    }

    fn now(&self) -> Mono {
        let (asked, then) = self.clocks;
        asked + system_clock().saturating_sub(then)
    }
}
