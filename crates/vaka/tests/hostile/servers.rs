//! USB/IP servers that flood, lie or say nothing.

use std::net::TcpStream;
use std::sync::Arc;
use std::time::Duration;

use super::bounded::{Expected, all, problem, program};
use super::server::{
    IMPORT, LIST, OnRequest, Reply, Urb, device, flood, header, list_of_one, record, returned, serve, silent, write,
};
use crate::support::firmware;

/// The ids of the Tern in update mode.
pub const TERN: (u16, u16) = (0x1209, 0x0002);

/// A server that answers list requests like this, and nothing else.
fn lists(answer: impl Fn(&mut TcpStream) + Send + Sync + 'static) -> OnRequest {
    Arc::new(move |stream, request| {
        if [request[2], request[3]] == LIST {
            answer(stream);
        }
    })
}

/// A server that lists a Tern, and answers an import like this.
fn imports(answer: impl Fn(&mut TcpStream) + Send + Sync + 'static) -> OnRequest {
    Arc::new(move |stream, request| match [request[2], request[3]] {
        LIST => {
            write(stream, &list_of_one(TERN));
        }
        IMPORT => answer(stream),
        _ => {}
    })
}

fn says(bytes: impl Into<Vec<u8>>) -> impl Fn(&mut TcpStream) + Send + Sync + 'static {
    let bytes = bytes.into();
    move |stream| {
        write(stream, &bytes);
    }
}

/// A server that takes a list request and says nothing.
pub fn silent_list() -> OnRequest {
    lists(silent)
}

/// Servers whose list is wrong.
fn lists_that_lie() -> Vec<(&'static str, OnRequest)> {
    let many = |count: u32| [header(5, 0), count.to_be_bytes().to_vec()].concat();
    let mut steering = list_of_one(TERN);
    steering[12..12 + 12].copy_from_slice(b"\x1b[2J\x1b]0;x\x07//");
    steering[12 + 256..12 + 268].copy_from_slice(b"1-1\x1b[2J\x07\r\n\x7f/");
    let mut unended = list_of_one(TERN);
    unended[12 + 256..12 + 288].fill(b'1');
    let all_interfaces = [many(1), record(TERN, 255), vec![0xFE; 4 * 255]].concat();
    let twins = [many(4096), [record(TERN, 0)].concat().repeat(4096)].concat();
    vec![
        ("closes at once", lists(|_| {})),
        ("says nothing", silent_list()),
        ("one byte", lists(says([1]))),
        ("another version", lists(says([2, 0, 0, 5, 0, 0, 0, 0, 0, 0, 0, 0]))),
        ("another reply", lists(says([1, 0x11, 0, 3, 0, 0, 0, 0, 0, 0, 0, 0]))),
        ("an error status", lists(says(header(5, 1)))),
        ("a web server", lists(says("HTTP/1.1 400 Bad Request\r\nServer: x\x1b[2J\r\n\r\n"))),
        ("4 billion devices", lists(says(many(u32::MAX)))),
        (
            "4096 devices that do not come",
            lists(move |stream| {
                write(stream, &many(4096));
                silent(stream);
            }),
        ),
        ("half a device", lists(says([many(1), record(TERN, 0)[..100].to_vec()].concat()))),
        ("fewer interfaces than stated", lists(says([many(1), record(TERN, 9), vec![1, 2]].concat()))),
        ("255 interfaces", lists(says(all_interfaces))),
        ("4096 devices at one port", lists(says(twins))),
        ("a port that steers the terminal", lists(says(steering))),
        ("a port without an end", lists(says(unended))),
        ("a flood of zeros", lists(|stream| flood(stream, &[0]))),
        ("a flood of ones", lists(|stream| flood(stream, &[0xFF]))),
        (
            "a flood after the list",
            lists(|stream| {
                write(stream, &list_of_one(TERN));
                flood(stream, &[0]);
            }),
        ),
        (
            "a byte each 50 ms",
            lists(|stream| {
                for byte in list_of_one(TERN).repeat(10) {
                    std::thread::sleep(Duration::from_millis(50));
                    if !write(stream, &[byte]) {
                        return;
                    }
                }
            }),
        ),
    ]
}

/// Servers that do not give the unit that they list.
fn imports_that_lie() -> Vec<(&'static str, OnRequest)> {
    let mut all: Vec<(&'static str, OnRequest)> = vec![
        ("no import", imports(|_| {})),
        ("a silent import", imports(silent)),
        ("an import of another kind", imports(says(header(5, 0)))),
        ("half an import", imports(says([header(3, 0), record(TERN, 1)[..200].to_vec()].concat()))),
        ("a flood instead of an import", imports(|stream| flood(stream, &[0x55]))),
        (
            "a flood after an import",
            imports(|stream| {
                write(stream, &[header(3, 0), record(TERN, 1)].concat());
                flood(stream, &[0x55]);
            }),
        ),
        ("an import of another device", imports(says([header(3, 0), record((0xFFFF, 0xFFFF), 0)].concat()))),
    ];
    for (name, status) in [("refuses", 1), ("is busy", 2), ("has an error", 3), ("has none", 4), ("status 99", 99)] {
        all.push((name, imports(says(header(3, status)))));
    }
    all
}

/// Servers whose replies to transfers are wrong.
fn transfers_that_lie() -> Vec<(&'static str, OnRequest)> {
    let of = |reply: fn(&Urb) -> Reply| device(TERN, reply);
    let unlinked = {
        let mut bytes = returned(77, 0, 0, &[]);
        bytes[3] = 4;
        bytes
    };
    vec![
        ("no reply", of(|_| Reply::Silent)),
        ("closes at the first transfer", of(|_| Reply::Close)),
        ("stalls everything", of(|_| Reply::Status(-32))),
        ("times out everything", of(|_| Reply::Status(-110))),
        ("a status that is none", of(|_| Reply::Status(i32::MIN))),
        ("a positive status", of(|_| Reply::Status(1))),
        ("no device any more", of(|_| Reply::Status(-19))),
        ("empty replies", of(|_| Reply::Data(Vec::new()))),
        ("zeros", of(|urb| Reply::Data(vec![0; urb.length as usize]))),
        ("ones", of(|urb| Reply::Data(vec![0xFF; urb.length as usize]))),
        ("one byte each", of(|_| Reply::Data(vec![18]))),
        ("more than asked for", of(|urb| Reply::Raw(returned(urb.seqnum, 0, urb.length + 1, &[0; 100])))),
        ("4 GiB", of(|urb| Reply::Raw(returned(urb.seqnum, 0, u32::MAX, &[0; 100])))),
        ("less than stated", of(|urb| Reply::Raw(returned(urb.seqnum, 0, urb.length, &[])))),
        ("another number", of(|urb| Reply::Raw(returned(urb.seqnum + 1, 0, 0, &[])))),
        ("the number before", of(|urb| Reply::Raw(returned(urb.seqnum - 1, 0, 0, &[])))),
        (
            "each reply twice",
            of(|urb| {
                let data = vec![0; urb.length as usize];
                Reply::Raw(returned(urb.seqnum, 0, urb.length, &data).repeat(2))
            }),
        ),
        ("half a header", of(|_| Reply::Raw(vec![0; 20]))),
        ("noise", of(|_| Reply::Raw((0..200).map(|n: u32| (n * 7919 % 251) as u8).collect()))),
        (
            "a request instead of a reply",
            of(|urb| {
                let mut bytes = returned(urb.seqnum, 0, 0, &[]);
                bytes[3] = 1;
                Reply::Raw(bytes)
            }),
        ),
        ("a flood of cancellations", device(TERN, move |_| Reply::Flood(unlinked.clone()))),
        ("a flood of results", of(|urb| Reply::Flood(returned(urb.seqnum + 1, 0, 0, &[])))),
        ("a flood of noise", of(|_| Reply::Flood(b"flood".to_vec()))),
    ]
}

#[test]
fn no_server_stops_a_command_or_is_believed() {
    let servers = lists_that_lie().into_iter().chain(imports_that_lie()).chain(transfers_that_lie());
    surveyed_and_updated(servers, &[0, 5, 9], &[3, 4, 5, 9], &[]);
}

/// Runs a survey and an update with each server; `surveyed` and `updated` are the exit statuses that
/// they may end with, `more` further options of the update.
#[track_caller]
pub fn surveyed_and_updated(
    servers: impl Iterator<Item = (&'static str, OnRequest)>,
    surveyed: &[i32],
    updated: &[i32],
    more: &[&str],
) {
    let image = firmware("tern-r1-1.5.0.hex");
    let update = [&["update", image.to_str().unwrap(), "--variant", "r1", "--wait", "1s"], more].concat();
    let commands: [(&[&str], &[i32]); 2] = [(&["survey", "-v"], surveyed), (&update, updated)];
    let cases: Vec<_> = servers
        .flat_map(|(name, server)| {
            commands.map(|(args, codes)| (format!("{name}: vaka {}", args[0]), (server.clone(), args, codes)))
        })
        .collect();
    all(&cases, |(server, args, codes)| {
        let folder = tempfile::tempdir().unwrap();
        let bus = serve(server.clone());
        problem(&mut program(folder.path(), &[*args, &["--bus", &bus]].concat()), &Expected { codes, words: &[] })
    });
}
