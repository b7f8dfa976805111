//! A serial port that the system created for a unit, for users with access to the port but not to
//! the USB device. Source: termios(3), tty_ioctl(4).

use std::fs::{File, OpenOptions};
use std::io::{self, Read, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;
use std::time::Duration;

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::fs::OFlags;
use rustix::termios::{OptionalActions, tcgetattr, tcsetattr};

/// An open port in raw mode: 115 200 bit/s, eight bits, no parity.
#[derive(Debug)]
pub struct SystemPort {
    file: File,
}

impl SystemPort {
    /// Opens a port, for this program alone.
    ///
    /// # Errors
    /// The user may not use it, another program uses it, or it is not a serial port.
    pub fn open(node: &Path) -> io::Result<Self> {
        const BIT_RATE: u32 = 115_200;
        let flags = i32::try_from((OFlags::NOCTTY | OFlags::NONBLOCK).bits()).unwrap_or(0);
        let file = OpenOptions::new().read(true).write(true).custom_flags(flags).open(node)?;
        let mut form = tcgetattr(&file)?;
        form.make_raw();
        form.set_speed(BIT_RATE)?;
        tcsetattr(&file, OptionalActions::Now, &form)?;
        rustix::termios::ioctl_tiocexcl(&file)?;
        Ok(Self { file })
    }

    /// The available data, within a time limit; empty if there is none.
    ///
    /// # Errors
    /// The unit left.
    pub fn receive(&mut self, within: Duration) -> io::Result<Vec<u8>> {
        let time = Timespec::try_from(within).map_err(|_| io::Error::from(io::ErrorKind::InvalidInput))?;
        let mut fds = [PollFd::new(&self.file, PollFlags::IN)];
        match poll(&mut fds, Some(&time)) {
            Ok(0) | Err(rustix::io::Errno::INTR) => return Ok(Vec::new()),
            other => other?,
        };
        let mut bytes = [0; 512];
        match self.file.read(&mut bytes) {
            // A terminal that hung up returns end of file or an I/O error.
            Ok(0) => Err(io::ErrorKind::BrokenPipe.into()),
            Ok(count) => Ok(bytes[..count].to_vec()),
            Err(error) if error.kind() == io::ErrorKind::WouldBlock => Ok(Vec::new()),
            Err(error) => Err(error),
        }
    }

    /// Sends bytes.
    ///
    /// # Errors
    /// The unit was detached, or does not accept the data within a second.
    pub fn send(&mut self, bytes: &[u8]) -> io::Result<()> {
        let second = Timespec { tv_sec: 1, tv_nsec: 0 };
        let mut rest = bytes;
        while !rest.is_empty() {
            match self.file.write(rest) {
                Ok(count) => rest = &rest[count..],
                Err(error) if error.kind() == io::ErrorKind::WouldBlock => {
                    let mut fds = [PollFd::new(&self.file, PollFlags::OUT)];
                    if poll(&mut fds, Some(&second))? == 0 {
                        return Err(io::ErrorKind::TimedOut.into());
                    }
                }
                Err(error) => return Err(error),
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};

    /// A pseudo-terminal takes the place of the unit.
    #[test]
    fn every_byte_comes_as_it_is_and_a_hang_up_is_reported() {
        let unit = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY).unwrap();
        grantpt(&unit).unwrap();
        unlockpt(&unit).unwrap();
        let name = ptsname(&unit, Vec::new()).unwrap();
        let path = Path::new(name.to_str().unwrap()).to_owned();
        let mut port = SystemPort::open(&path).unwrap();
        assert_eq!(port.receive(Duration::from_millis(5)).unwrap(), b"");
        let mut unit = File::from(unit);
        // Nothing is translated, echoed or interpreted as a signal.
        unit.write_all(b"a\r\nb\x03\x04\x13c").unwrap();
        let mut heard = Vec::new();
        while heard.len() < 8 {
            let more = port.receive(Duration::from_secs(2)).unwrap();
            assert!(!more.is_empty(), "only {heard:?}");
            heard.extend(more);
        }
        assert_eq!(heard, b"a\r\nb\x03\x04\x13c");
        port.send(b"about\r\n").unwrap();
        let mut bytes = [0; 7];
        unit.read_exact(&mut bytes).unwrap();
        assert_eq!(&bytes, b"about\r\n");
        drop(unit);
        assert!(port.receive(Duration::from_secs(2)).is_err());
        assert!(SystemPort::open(Path::new("/dev/null")).is_err(), "no serial port");
    }
}
