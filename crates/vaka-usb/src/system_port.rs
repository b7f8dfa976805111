//! A serial port that the system's driver made of a unit, such as `/dev/ttyUSB0`.
//! Source: termios(3), tty_ioctl(4).

use std::io;
use std::path::Path;
use std::time::{Duration, Instant};

use serial2::{CharSize, FlowControl, KeepSettings, Parity, SerialPort, Settings, StopBits};

/// The settings of a serial line.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct LineForm {
    /// Bits per second.
    pub baud: u32,
    /// Data bits: 5 to 8.
    pub data_bits: u8,
    /// 0 none, 1 odd, 2 even, as bParityType. Source: PSTN subclass of CDC 1.2, table 17.
    pub parity: u8,
    /// 0 one stop bit, 2 two, as bCharFormat. Source: as above.
    pub stop: u8,
}

impl LineForm {
    /// The line of a port that was just opened.
    const FIRST: Self = Self { baud: 115_200, data_bits: 8, parity: 0, stop: 0 };

    /// Bits of a character: with the start bit, the parity bit and the stop bits.
    fn bits(self) -> u32 {
        2 + u32::from(self.data_bits) + u32::from(self.parity != 0) + u32::from(self.stop != 0)
    }

    /// The time that characters take on the line.
    fn time(self, count: usize) -> Duration {
        let bits = u64::try_from(count).unwrap_or(u64::MAX).saturating_mul(self.bits().into());
        Duration::from_micros(bits.saturating_mul(1_000_000) / u64::from(self.baud.max(1)))
    }

    fn apply(self, to: &mut Settings) -> io::Result<()> {
        let wrong = || io::Error::from(io::ErrorKind::InvalidInput);
        to.set_raw();
        to.set_baud_rate(self.baud)?;
        to.set_char_size(match self.data_bits {
            5 => CharSize::Bits5,
            6 => CharSize::Bits6,
            7 => CharSize::Bits7,
            8 => CharSize::Bits8,
            _ => return Err(wrong()),
        });
        to.set_parity(match self.parity {
            0 => Parity::None,
            1 => Parity::Odd,
            2 => Parity::Even,
            _ => return Err(wrong()),
        });
        to.set_stop_bits(if self.stop == 0 { StopBits::One } else { StopBits::Two });
        to.set_flow_control(FlowControl::None);
        Ok(())
    }
}

/// An open port in raw mode, which no other program can open meanwhile.
#[derive(Debug)]
pub struct SystemPort {
    port: SerialPort,
    line: LineForm,
    /// When the bytes that were sent have left, as far as the speed of the line tells.
    sent_at: Instant,
}

impl SystemPort {
    /// Opens a port at 115 200 bit/s, eight bits, no parity, as far as its driver has a line. The system
    /// raises DTR and RTS.
    ///
    /// # Errors
    /// The user may not use it, another program uses it, or it is not a serial port.
    pub fn open(node: &Path) -> io::Result<Self> {
        let port = SerialPort::open(node, KeepSettings)?;
        rustix::termios::ioctl_tiocexcl(&port)?;
        let mut port = Self { port, line: LineForm::FIRST, sent_at: Instant::now() };
        port.set_line(LineForm::FIRST)?;
        Ok(port)
    }

    /// Sets speed and form of the line, once all bytes have left; returns whether the driver took them.
    /// A driver of a port without a physical line keeps its own.
    ///
    /// # Errors
    /// The settings are none, or the unit left.
    pub fn set_line(&mut self, line: LineForm) -> io::Result<bool> {
        self.let_out();
        let mut settings = self.port.get_configuration()?;
        line.apply(&mut settings)?;
        let is_taken = match self.port.set_configuration(&settings) {
            Ok(()) => true,
            // The crate compares what was set with what was asked for.
            Err(error) if error.kind() == io::ErrorKind::Other && error.raw_os_error().is_none() => {
                self.is_about(&settings)?
            }
            Err(error) => return Err(error),
        };
        if is_taken {
            self.line = line;
        }
        Ok(is_taken)
    }

    /// Whether the port has the settings that were asked for, with a speed that a receiver tolerates: a
    /// driver reports the speed that its clock allows.
    fn is_about(&self, wanted: &Settings) -> io::Result<bool> {
        /// Part of a bit in percent by which a speed may differ. Chosen by us: ten bits of one speed, read
        /// with another, stay within half a bit.
        const TOLERANCE: u32 = 3;
        let found = self.port.get_configuration()?;
        let (is, should) = (found.get_baud_rate()?, wanted.get_baud_rate()?);
        let same_form = found.get_char_size().ok() == wanted.get_char_size().ok()
            && found.get_parity().ok() == wanted.get_parity().ok()
            && found.get_stop_bits().ok() == wanted.get_stop_bits().ok();
        Ok(same_form && u64::from(is.abs_diff(should)) * 100 <= u64::from(should) * u64::from(TOLERANCE))
    }

    /// Sets the control lines, once all bytes have left.
    ///
    /// # Errors
    /// The port has no such lines, or the unit left.
    pub fn signal(&mut self, dtr: bool, rts: bool) -> io::Result<()> {
        self.let_out();
        self.port.set_dtr(dtr)?;
        self.port.set_rts(rts)
    }

    /// Begins or ends the break state of the line.
    ///
    /// # Errors
    /// The driver has no break, or the unit left.
    pub fn set_break(&mut self, on: bool) -> io::Result<()> {
        self.let_out();
        self.port.set_break(on)
    }

    /// The available data: at least one byte, at most `most`. The time begins when the bytes that were
    /// sent have left.
    ///
    /// # Errors
    /// [`TimedOut`](io::ErrorKind::TimedOut) if there is none in time; otherwise the unit left.
    pub fn receive(&mut self, most: usize, within: Duration) -> io::Result<Vec<u8>> {
        let deadline = self.sent_at.max(Instant::now()) + within;
        let mut bytes = vec![0; most];
        loop {
            // Timeouts have whole milliseconds.
            let left = deadline.saturating_duration_since(Instant::now());
            self.port.set_read_timeout(left + Duration::from_micros(999))?;
            match self.port.read(&mut bytes) {
                // A port that hung up is at its end.
                Ok(0) => return Err(io::ErrorKind::BrokenPipe.into()),
                Ok(count) => {
                    bytes.truncate(count);
                    return Ok(bytes);
                }
                Err(error) if matches!(error.kind(), io::ErrorKind::WouldBlock | io::ErrorKind::Interrupted) => {
                    if left.is_zero() {
                        return Err(io::ErrorKind::TimedOut.into());
                    }
                }
                Err(error) => return Err(error),
            }
        }
    }

    /// Passes bytes to the system, which sends them.
    ///
    /// # Errors
    /// The unit left, or does not accept the data in time; the rest is discarded.
    pub fn send(&mut self, bytes: &[u8], within: Duration) -> io::Result<()> {
        let deadline = Instant::now() + within.max(self.line.time(bytes.len()) * 2);
        let mut rest = bytes;
        while !rest.is_empty() {
            self.port.set_write_timeout(deadline.saturating_duration_since(Instant::now()))?;
            match self.port.write(rest) {
                Ok(count) => rest = &rest[count..],
                Err(error) if matches!(error.kind(), io::ErrorKind::WouldBlock | io::ErrorKind::Interrupted) => {}
                Err(error) => {
                    let _ = self.port.discard_output_buffer();
                    return Err(error);
                }
            }
        }
        self.sent_at = self.sent_at.max(Instant::now()) + self.line.time(bytes.len());
        Ok(())
    }

    /// Waits until the bytes that were sent have left.
    fn let_out(&self) {
        std::thread::sleep(self.sent_at.saturating_duration_since(Instant::now()));
    }
}

impl Drop for SystemPort {
    /// The system would keep this program for half a minute if the unit does not accept the last bytes.
    fn drop(&mut self) {
        self.let_out();
        let _ = self.port.discard_output_buffer();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    use std::fs::File;
    use std::io::{Read, Write};
    use std::path::PathBuf;

    use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};

    /// The unit's side of a pseudo-terminal, and the node of the other.
    fn pair() -> (File, PathBuf) {
        let unit = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY).unwrap();
        grantpt(&unit).unwrap();
        unlockpt(&unit).unwrap();
        let name = ptsname(&unit, Vec::new()).unwrap();
        (File::from(unit), PathBuf::from(name.to_str().unwrap()))
    }

    #[test]
    fn every_byte_comes_as_it_is_and_a_hang_up_is_reported() {
        let (mut unit, node) = pair();
        let mut port = SystemPort::open(&node).unwrap();
        assert_eq!(port.receive(8, Duration::from_millis(5)).unwrap_err().kind(), io::ErrorKind::TimedOut);
        // Nothing is translated, echoed or interpreted as a signal.
        unit.write_all(b"a\r\nb\x03\x04\x13c").unwrap();
        let mut heard = Vec::new();
        while heard.len() < 8 {
            heard.extend(port.receive(5, Duration::from_secs(2)).unwrap());
        }
        assert_eq!(heard, b"a\r\nb\x03\x04\x13c");
        port.send(b"about\r\n", Duration::from_secs(2)).unwrap();
        let mut bytes = [0; 7];
        unit.read_exact(&mut bytes).unwrap();
        assert_eq!(&bytes, b"about\r\n");
        drop(unit);
        let end = port.receive(8, Duration::from_secs(2)).unwrap_err();
        assert_ne!(end.kind(), io::ErrorKind::TimedOut);
        assert!(SystemPort::open(Path::new("/dev/null")).is_err(), "no serial port");
    }

    /// At 1200 bit/s 30 characters of ten bits take 250 ms, so a reply within 50 ms may come 300 ms later.
    #[test]
    fn the_time_for_a_reply_begins_when_the_request_has_left() {
        let (_unit, node) = pair();
        let mut port = SystemPort::open(&node).unwrap();
        port.set_line(LineForm { baud: 1200, ..LineForm::FIRST }).unwrap();
        let began = Instant::now();
        port.send(&[0x55; 30], Duration::from_millis(10)).unwrap();
        assert_eq!(port.receive(1, Duration::from_millis(50)).unwrap_err().kind(), io::ErrorKind::TimedOut);
        assert!(began.elapsed() >= Duration::from_millis(290), "{:?}", began.elapsed());
    }

    /// Any speed is set, also one that is in no list. A pseudo-terminal has eight bits and no parity.
    /// Source: 8E2 has 1 + 8 + 1 + 2 bits.
    #[test]
    fn the_line_is_set_as_asked() {
        let (_unit, node) = pair();
        let mut port = SystemPort::open(&node).unwrap();
        let line = LineForm { baud: 74_880, stop: 2, ..LineForm::FIRST };
        assert!(port.set_line(line).unwrap());
        let found = port.port.get_configuration().unwrap();
        assert_eq!(found.get_baud_rate().unwrap(), 74_880);
        assert_eq!(found.get_stop_bits().unwrap(), StopBits::Two);
        let even = LineForm { parity: 2, ..line };
        assert_eq!((even.bits(), port.set_line(even).unwrap()), (12, false));
        assert!(port.set_line(LineForm { data_bits: 9, ..line }).is_err());
    }
}
