//! The way of an object store's library to its servers: ours.

use http::{Method, Request};
use http_body_util::BodyExt;
use object_store::ClientOptions;
use object_store::client::{
    HttpClient, HttpConnector, HttpError, HttpErrorKind, HttpRequest, HttpResponse, HttpResponseBody, HttpService,
};

use super::body::Frames;
use crate::bring::fetch::network::Network;

/// The network, for a library that asks for one.
#[derive(Clone, Debug)]
pub(super) struct Way(pub(super) Network);

impl HttpConnector for Way {
    fn connect(&self, _: &ClientOptions) -> object_store::Result<HttpClient> {
        Ok(HttpClient::new(self.clone()))
    }
}

#[async_trait::async_trait]
impl HttpService for Way {
    /// Asks, and waits: whoever calls has a thread for it.
    async fn call(&self, asked: HttpRequest) -> Result<HttpResponse, HttpError> {
        let (head, body) = asked.into_parts();
        let bytes = body.collect().await?.to_bytes();
        let agent = self.0.agent(&head.uri.to_string());
        let bodiless = bytes.is_empty() && matches!(head.method, Method::GET | Method::HEAD | Method::DELETE);
        let answer = if bodiless {
            agent.run(Request::from_parts(head, ()))
        } else {
            agent.run(Request::from_parts(head, bytes.as_ref()))
        };
        let answer = answer.map_err(|error| HttpError::new(HttpErrorKind::Connect, error.into_io()))?;
        Ok(answer.map(|body| HttpResponseBody::new(Frames::new(body))))
    }
}
