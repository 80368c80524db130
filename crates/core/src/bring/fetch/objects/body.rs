//! Bodies between those who wait with a thread and those who wait with a task.

use std::io::{self, Read};
use std::pin::Pin;
use std::sync::{Arc, Mutex, PoisonError};
use std::task::{Context, Poll};

use bytes::Bytes;
use futures_util::StreamExt;
use futures_util::stream::BoxStream;
use http_body::{Body, Frame};
use object_store::client::{HttpError, HttpErrorKind};
use tokio::runtime::Runtime;

/// Bytes handed over at once.
const BLOCK: usize = 64 << 10;

/// A server's answer, block by block.
pub(super) struct Frames(Mutex<Box<dyn Read + Send>>);

impl Frames {
    pub(super) fn new(body: ureq::Body) -> Self {
        Self(Mutex::new(Box::new(body.into_with_config().limit(u64::MAX).reader())))
    }
}

impl Body for Frames {
    type Data = Bytes;
    type Error = HttpError;

    fn poll_frame(self: Pin<&mut Self>, _: &mut Context<'_>) -> Poll<Option<Result<Frame<Bytes>, HttpError>>> {
        let mut block = vec![0; BLOCK];
        let body = self.get_mut().0.get_mut().unwrap_or_else(PoisonError::into_inner);
        Poll::Ready(match body.read(&mut block) {
            Ok(0) => None,
            Ok(got) => {
                block.truncate(got);
                Some(Ok(Frame::data(block.into())))
            }
            Err(error) => Some(Err(HttpError::new(HttpErrorKind::Interrupted, error))),
        })
    }
}

/// An object's bytes, for one who waits with a thread.
pub(super) struct Streamed {
    stream: BoxStream<'static, object_store::Result<Bytes>>,
    runtime: Arc<Runtime>,
    left: Bytes,
}

impl Streamed {
    pub(super) fn new(stream: BoxStream<'static, object_store::Result<Bytes>>, runtime: &Arc<Runtime>) -> Self {
        Self { stream, runtime: Arc::clone(runtime), left: Bytes::new() }
    }
}

impl Read for Streamed {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        while self.left.is_empty() {
            match self.runtime.block_on(self.stream.next()) {
                Some(next) => self.left = next.map_err(io::Error::other)?,
                None => return Ok(0),
            }
        }
        let some = self.left.split_to(self.left.len().min(into.len()));
        into[..some.len()].copy_from_slice(&some);
        Ok(some.len())
    }
}
