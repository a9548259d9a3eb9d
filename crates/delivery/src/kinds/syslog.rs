//! Sends syslog messages: over TCP or TLS each after its length (RFC 6587, RFC 5425), over UDP a datagram each (RFC 5426).
//!
//! None of these answers, so events count as delivered once the system has taken them for sending; what is on its way when the receiver dies is lost, as with every sender of
//! this protocol. Before a body is sent it is looked whether the other end has hung up.

use std::time::Duration;

use futures_util::future::BoxFuture;
use rockrose_event::output::{Syslog, each};
use rockrose_plan::{SyslogDestination, SyslogTransport};
use tokio::io::{AsyncRead, AsyncWrite, AsyncWriteExt};
use tokio::net::{TcpStream, UdpSocket};

use crate::kind::{Failure, Kind, Limits, OpenError, Outgoing, Outlet, Taken, all_written};
use crate::probe::Probe;
use crate::{now_ms, tls};

/// Longest message that a datagram carries, in bytes.
const MAX_DATAGRAM: usize = 65_507;

trait Stream: AsyncRead + AsyncWrite + Send + Sync + Unpin {
    fn socket(&self) -> &TcpStream;
}

impl Stream for TcpStream {
    fn socket(&self) -> &TcpStream {
        self
    }
}

impl Stream for tokio_rustls::client::TlsStream<TcpStream> {
    fn socket(&self) -> &TcpStream {
        self.get_ref().0
    }
}

enum Open {
    Stream(Box<dyn Stream>),
    Datagrams(UdpSocket),
}

struct SyslogOutlet {
    settings: SyslogDestination,
    writer: Syslog,
    open: Option<Open>,
}

impl Kind for SyslogDestination {
    fn limits(&self) -> Limits<'_> {
        Limits { max_batch: self.max_batch as usize, parallel: false, gathers: None, file: None }
    }

    fn open(&self, _reached: Option<u64>) -> Result<Box<dyn Outlet>, OpenError> {
        Ok(Box::new(SyslogOutlet::new(self.clone())?))
    }

    fn probe<'a>(&'a self, probe: &'a mut Probe) -> BoxFuture<'a, ()> {
        Box::pin(async move {
            let files = (self.transport == SyslogTransport::Tls).then_some(&self.tls);
            let there = match self.transport {
                SyslogTransport::Udp => probe.resolve(&self.host, self.port).await,
                SyslogTransport::Tcp | SyslogTransport::Tls => probe.way_there(&self.host, self.port, files).await,
            };
            if there {
                probe.accept(self.open(None), "a test event was sent; this protocol does not say whether it was accepted").await;
            }
        })
    }
}

impl Outlet for SyslogOutlet {
    fn send<'a>(&'a mut self, events: Outgoing<'a>) -> BoxFuture<'a, Result<Taken, Failure>> {
        Box::pin(async move { self.send_in_time(&events.lines, events.events).await.map(|()| Taken::all()) })
    }
}

impl SyslogOutlet {
    fn new(settings: SyslogDestination) -> Result<SyslogOutlet, OpenError> {
        if settings.transport == SyslogTransport::Tls {
            // What is wrong with the files is told at once.
            tls::config(&settings.tls)?;
        }
        Ok(SyslogOutlet { writer: Syslog::new(settings.facility), settings, open: None })
    }

    async fn send_in_time(&mut self, lines: &[u8], events: usize) -> Result<(), Failure> {
        let patience = self.settings.timeout;
        let sent = tokio::time::timeout(patience, self.try_send(lines, events)).await;
        let sent = sent.unwrap_or_else(|_| Err(Failure::later(format!("it accepted nothing within {} seconds", patience.as_secs_f64()))));
        if sent.is_err() {
            self.open = None;
        }
        sent
    }

    async fn try_send(&mut self, lines: &[u8], count: usize) -> Result<(), Failure> {
        all_written(each(lines).count(), count)?;
        if let Some(Open::Stream(stream)) = &self.open
            && hung_up(stream.socket()).await
        {
            self.open = None;
        }
        let open = match self.open.take() {
            Some(open) => open,
            None => self.connect().await?,
        };
        let open = self.open.insert(open);
        let events = each(lines);
        match open {
            Open::Stream(stream) => {
                let (mut framed, mut message) = (Vec::with_capacity(lines.len() + lines.len() / 4), Vec::new());
                for event in events {
                    message.clear();
                    self.writer.write(event, now_ms(), &mut message);
                    framed.extend_from_slice(format!("{} ", message.len()).as_bytes());
                    framed.extend_from_slice(&message);
                }
                stream.write_all(&framed).await.map_err(|e| Failure::later(format!("the connection broke: {e}")))?;
                stream.flush().await.map_err(|e| Failure::later(format!("the connection broke: {e}")))
            }
            Open::Datagrams(socket) => {
                let mut messages = Vec::new();
                for event in events {
                    let mut message = Vec::new();
                    self.writer.write(event, now_ms(), &mut message);
                    if message.len() > MAX_DATAGRAM {
                        return Err(Failure::Refused(format!("a message of {} bytes does not fit a datagram", message.len())));
                    }
                    messages.push(message);
                }
                for message in messages {
                    socket.send(&message).await.map_err(|e| Failure::later(format!("it cannot be sent: {e}")))?;
                }
                Ok(())
            }
        }
    }

    async fn connect(&self) -> Result<Open, Failure> {
        let SyslogDestination { transport, host, port, tls, .. } = &self.settings;
        if *transport == SyslogTransport::Udp {
            let mut why = format!("`{host}` has no address");
            for address in tokio::net::lookup_host((host.as_str(), *port)).await.map_err(|e| Failure::later(format!("`{host}` is not known: {e}")))? {
                let own = if address.is_ipv4() { "0.0.0.0:0" } else { "[::]:0" };
                match UdpSocket::bind(own).await {
                    Ok(socket) => match socket.connect(address).await {
                        Ok(()) => return Ok(Open::Datagrams(socket)),
                        Err(e) => why = format!("{address} cannot be reached: {e}"),
                    },
                    Err(e) => why = e.to_string(),
                }
            }
            return Err(Failure::later(why));
        }
        let stream = TcpStream::connect((host.as_str(), *port)).await.map_err(|e| Failure::later(format!("cannot connect: {e}")))?;
        let _ = stream.set_nodelay(true);
        if *transport == SyslogTransport::Tcp {
            return Ok(Open::Stream(Box::new(stream)));
        }
        Ok(Open::Stream(Box::new(tls::secure(tls, host, stream).await.map_err(|e| Failure::later(e.to_string()))?)))
    }
}

/// Whether the other end has closed the connection. Nothing is taken out of it.
async fn hung_up(socket: &TcpStream) -> bool {
    let mut one = [0];
    match tokio::time::timeout(Duration::ZERO, socket.peek(&mut one)).await {
        Ok(Ok(read)) => read == 0,
        Ok(Err(_)) => true,
        Err(_) => false,
    }
}
