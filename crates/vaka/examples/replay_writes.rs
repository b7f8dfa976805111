//! Sends the disk writes of a trace once more, blind: the same commands with the
//! same data, one after the other, with nothing looked at in between but that each
//! passed. What that takes is what no program can do better.
//!
//! `replay_writes TRACE PORT`: a unit on this machine's own bus. Prints the
//! milliseconds, and what the trace did besides.

#![allow(clippy::print_stdout, clippy::unwrap_used)] // a tool for the kernel test

use std::time::{Duration, Instant};

use serde_json::Value;
use vaka_usb::native::NativeBus;
use vaka_usb::{Bus, EndpointInfo, PipeKind, strings};

fn bytes(text: &str) -> Vec<u8> {
    (0..text.len()).step_by(2).map(|at| u8::from_str_radix(&text[at..at + 2], 16).unwrap()).collect()
}

fn main() {
    let args: Vec<String> = std::env::args_os().map(|word| word.to_string_lossy().into_owned()).collect();
    let text = std::fs::read_to_string(&args[1]).unwrap();
    let lines: Vec<Value> = text.lines().skip(1).map(|line| serde_json::from_str(line).unwrap()).collect();
    let sent: Vec<Vec<u8>> = lines
        .iter()
        .filter(|line| line["pipe"].is_string())
        .filter_map(|line| Some(bytes(line["data"].as_str()?)))
        .collect();
    let commands = sent.iter().filter(|data| data.starts_with(b"USBC")).count();
    let is_write = |data: &[u8]| data.starts_with(b"USBC") && data[15] == 0x2A;
    let writes: Vec<(&Vec<u8>, &Vec<u8>)> =
        sent.windows(2).filter(|pair| is_write(&pair[0])).map(|pair| (&pair[0], &pair[1])).collect();
    // The last one makes the unit leave.
    let (_, blind) = writes.split_last().unwrap();

    let bus = NativeBus::new();
    let mut device = bus.open(&args[2]).unwrap();
    let configuration =
        strings::configuration(&mut *device, &mut strings::Patience::new(&vaka_usb::SystemClock)).unwrap();
    let disk = configuration.interfaces.iter().find(|interface| interface.class == 8).unwrap();
    let pipe = |is_in| {
        disk.pipes
            .iter()
            .copied()
            .find(|pipe: &EndpointInfo| pipe.kind == PipeKind::Bulk && pipe.is_in() == is_in)
            .unwrap()
    };
    let (data_in, data_out) = (pipe(true), pipe(false));
    device.claim(disk.number, 0).unwrap();
    let patience = Duration::from_secs(30);
    // The attention that waits after every plug-in: one command takes it away.
    let mut ready = b"USBC\x01\0\0\0\0\0\0\0\0\0\x06".to_vec();
    ready.resize(31, 0);
    for _ in 0..2 {
        device.write_endpoint(data_out, &ready, patience).unwrap();
        device.read_endpoint(data_in, 64, patience).unwrap();
    }
    let began = Instant::now();
    for (wrapper, data) in blind {
        device.write_endpoint(data_out, wrapper, patience).unwrap();
        device.write_endpoint(data_out, data, patience).unwrap();
        let status = device.read_endpoint(data_in, 64, patience).unwrap();
        assert_eq!((status.len(), status[12]), (13, 0));
    }
    let took = began.elapsed().as_millis();
    let sectors: usize = writes.iter().map(|(_, data)| data.len() / 512).sum();
    let blocks: usize =
        writes.iter().map(|(_, data)| data.chunks(512).filter(|sector| sector.starts_with(b"UF2\n")).count()).sum();
    println!("blind_ms={took} commands={commands} sectors={sectors} no_data={}", sectors - blocks);
}
