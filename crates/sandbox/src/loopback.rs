//! The loopback interface of a network namespace that was made without setting it up.

use rustix::io::Result;
use rustix::ioctl::{Opcode, Updater, ioctl};
use rustix::net::{AddressFamily, SocketType, socket};

/// `struct ifreq` of netdevice(7), as far as flags are concerned.
#[repr(C)]
struct InterfaceRequest {
    name: [u8; 16],
    flags: i16,
    rest: [u8; 22],
}

const GET_FLAGS: Opcode = 0x8913;
const SET_FLAGS: Opcode = 0x8914;
const UP: i16 = 1;

/// Brings the loopback interface up if it is down. A new network namespace (as `unshare -n` makes
/// one) has it down, and then nothing on the machine reaches anything else on it. Needs the
/// capability `CAP_NET_ADMIN` there.
pub fn raise_loopback() -> Result<()> {
    let socket = socket(AddressFamily::INET, SocketType::DGRAM, None)?;
    let mut request = InterfaceRequest { name: [0; 16], flags: 0, rest: [0; 22] };
    request.name[..2].copy_from_slice(b"lo");
    // SAFETY: both calls take a `struct ifreq`, read the name, and read or write the flags; the
    // structure above has its size and layout and lives through both.
    unsafe {
        ioctl(&socket, Updater::<GET_FLAGS, InterfaceRequest>::new(&mut request))?;
        if request.flags & UP == 0 {
            request.flags |= UP;
            ioctl(&socket, Updater::<SET_FLAGS, InterfaceRequest>::new(&mut request))?;
        }
    }
    Ok(())
}
