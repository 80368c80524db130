//! The way out of a company: a proxy that tunnels, and behind it a yard that speaks TLS under a name of its own.

use std::io::{self, BufRead, BufReader, Read, Write};
use std::net::{Shutdown, TcpListener, TcpStream};
use std::sync::{Arc, Mutex};
use std::thread;

use rustls::pki_types::PrivateKeyDer;
use rustls::{ServerConfig, ServerConnection, StreamOwned};

pub const HOST: &str = "yard.harbour.example";

pub struct Tunnel {
    /// The proxy's own address.
    pub proxy: String,
    /// What signs itself as [`HOST`], as PEM.
    pub certificate: String,
    asked: Arc<Mutex<Vec<String>>>,
}

impl Tunnel {
    /// A tunnel whose far end is the plain server at `yard`, whatever host is asked for.
    pub fn to(yard: &str) -> Self {
        let own = rcgen::generate_simple_self_signed([HOST.to_owned()]).unwrap();
        let key = PrivateKeyDer::try_from(own.signing_key.serialize_der()).unwrap();
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let versions = ServerConfig::builder_with_provider(provider).with_safe_default_protocol_versions().unwrap();
        let config = versions.with_no_client_auth().with_single_cert(vec![own.cert.der().clone()], key).unwrap();
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let proxy = format!("http://{}", listener.local_addr().unwrap());
        let (config, asked) = (Arc::new(config), Arc::new(Mutex::new(Vec::new())));
        let (yard, heard) = (yard.trim_start_matches("http://").to_owned(), Arc::clone(&asked));
        thread::spawn(move || {
            for client in listener.incoming() {
                let (config, yard, heard) = (Arc::clone(&config), yard.clone(), Arc::clone(&heard));
                // A client that does not trust the certificate hangs up; that is what some tests are about.
                thread::spawn(move || serve(client?, config, &yard, &heard));
            }
        });
        Self { proxy, certificate: own.cert.pem(), asked }
    }

    /// The first lines of the requests to the proxy.
    pub fn asked(&self) -> Vec<String> {
        self.asked.lock().unwrap().clone()
    }
}

fn serve(mut client: TcpStream, config: Arc<ServerConfig>, yard: &str, asked: &Mutex<Vec<String>>) -> io::Result<()> {
    let head = head(&mut client)?;
    asked.lock().unwrap().push(head.lines().next().unwrap_or_default().to_owned());
    client.write_all(b"HTTP/1.1 200 go on\r\n\r\n")?;
    let mut inside = StreamOwned::new(ServerConnection::new(config).map_err(io::Error::other)?, client);
    let request = self::head(&mut inside)?;
    let mut plain = TcpStream::connect(yard)?;
    plain.write_all(request.as_bytes())?;
    io::copy(&mut plain, &mut inside)?;
    inside.conn.send_close_notify();
    inside.flush()?;
    inside.sock.shutdown(Shutdown::Write)
}

/// A request up to its empty line.
fn head(from: &mut impl Read) -> io::Result<String> {
    let (mut reader, mut head) = (BufReader::with_capacity(1, from), String::new());
    while !head.ends_with("\r\n\r\n") {
        if reader.read_line(&mut head)? == 0 {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
    }
    Ok(head)
}
