//! Who somebody is, as the organisation's OpenID provider says (OpenID Connect Core 1.0): the
//! browser is sent there with a proof key (RFC 7636), comes back with a code, and the code is changed for a
//! signed token. Passwords are given to the provider alone.

mod claims;
mod request;

use std::{
    fmt,
    sync::{Arc, Mutex, PoisonError},
    time::{Duration, Instant},
};

use openidconnect::{
    AccessToken, AuthType, AuthorizationCode, ClaimsVerificationError, Client, ClientId,
    ClientSecret, CsrfToken, EmptyExtraTokenFields, EndpointMaybeSet, EndpointNotSet, EndpointSet,
    IdTokenFields, IssuerUrl, Nonce, OAuth2TokenResponse, PkceCodeChallenge, PkceCodeVerifier,
    ProviderMetadataWithLogout, RedirectUrl, RefreshToken, RequestTokenError, Scope,
    StandardErrorResponse, StandardTokenResponse, SubjectIdentifier, TokenResponse, UserInfoClaims,
    core::{
        CoreAuthDisplay, CoreAuthPrompt, CoreAuthenticationFlow, CoreClientAuthMethod,
        CoreErrorResponseType, CoreGenderClaim, CoreJsonWebKey, CoreJweContentEncryptionAlgorithm,
        CoreJwsSigningAlgorithm, CoreRevocableToken, CoreRevocationErrorResponse,
        CoreTokenIntrospectionResponse, CoreTokenType,
    },
};
use url::Url;

use crate::Person;
use claims::{Claims, Rest};
use request::{Http, RequestError, in_words};

pub use request::ProviderError;

/// What a provider says of itself is asked for again after this long.
const KNOWN_FOR: Duration = Duration::from_secs(300);
/// Asks for a token by which it can be looked later whether somebody is still let in.
const OFFLINE: &str = "offline_access";

type Tokens = StandardTokenResponse<
    IdTokenFields<
        Rest,
        EmptyExtraTokenFields,
        CoreGenderClaim,
        CoreJweContentEncryptionAlgorithm,
        CoreJwsSigningAlgorithm,
    >,
    CoreTokenType,
>;

type Known = Client<
    Rest,
    CoreAuthDisplay,
    CoreGenderClaim,
    CoreJweContentEncryptionAlgorithm,
    CoreJsonWebKey,
    CoreAuthPrompt,
    StandardErrorResponse<CoreErrorResponseType>,
    Tokens,
    CoreTokenIntrospectionResponse,
    CoreRevocableToken,
    CoreRevocationErrorResponse,
    EndpointSet,
    EndpointNotSet,
    EndpointNotSet,
    EndpointNotSet,
    EndpointMaybeSet,
    EndpointMaybeSet,
>;

/// Where the provider is, and which of its claims say what.
#[derive(Clone)]
pub struct ProviderSettings {
    /// Its address, exactly as it calls itself.
    pub issuer: String,
    pub client: String,
    pub secret: Option<String>,
    /// What is asked for besides `openid`.
    pub scopes: Vec<String>,
    /// The claim with the name that somebody goes by.
    pub name: String,
    /// The claim with their mail address.
    pub mail: String,
    /// The claim with their groups; dots lead into objects.
    pub groups: String,
    /// Where it sends the browser back to.
    pub back: String,
    /// Whether it is asked for leave to look later whether somebody is still let in.
    pub looks_later: bool,
    /// Certificates in PEM to trust instead of the system's.
    pub ca: Option<Vec<u8>>,
    /// How long one request may take.
    pub timeout: Duration,
}

/// A sign-in that has begun: where the browser goes, and what must be known when it is back.
pub struct Begun {
    pub address: Url,
    /// Comes back with the browser, unchanged.
    pub state: String,
    /// Stands in the signed token.
    pub nonce: String,
    /// Shows that who changes the code is who began (RFC 7636).
    pub verifier: String,
}

/// Somebody who has signed in at the provider, or whom it still lets in.
pub struct LetIn {
    pub person: Person,
    /// By which it can be looked later whether they are still let in. A secret.
    pub grant: Option<String>,
}

/// Why it could not be looked whether somebody is still let in.
#[derive(thiserror::Error)]
#[error("{error}")]
pub struct NotLooked {
    #[source]
    pub error: ProviderError,
    /// What came in place of the grant that was used, if that was used up already. A secret.
    pub grant: Option<String>,
}

/// Without the secret.
impl fmt::Debug for NotLooked {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:?}", self.error)
    }
}

impl From<ProviderError> for NotLooked {
    fn from(error: ProviderError) -> Self {
        Self { error, grant: None }
    }
}

/// What the provider says of itself.
#[derive(Clone)]
struct Discovered {
    client: Known,
    sign_out: Option<Url>,
    offers_offline: bool,
}

/// The organisation's OpenID provider.
#[derive(Clone)]
pub struct Provider {
    settings: ProviderSettings,
    http: Http,
    known: Arc<Mutex<Option<(Instant, Discovered)>>>,
}

impl Provider {
    /// # Errors
    /// If the certificates to trust cannot be read, or an address is none.
    pub fn new(settings: ProviderSettings) -> Result<Self, ProviderError> {
        for address in [&settings.issuer, &settings.back] {
            Url::parse(address).map_err(|error| ProviderError::Address {
                address: address.clone(),
                words: error.to_string(),
            })?;
        }
        Ok(Self {
            http: Http::new(&settings)?,
            settings,
            known: Arc::default(),
        })
    }

    /// Its address, as it calls itself.
    #[must_use]
    pub fn issuer(&self) -> &str {
        &self.settings.issuer
    }

    /// Whether it answers and says of itself what it must; an answer in words.
    ///
    /// # Errors
    /// If it does not.
    pub async fn test(&self) -> Result<String, ProviderError> {
        let known = self.discover().await?;
        let warning = if self.settings.looks_later && !known.offers_offline {
            "; it does not say that it gives refresh tokens, without which nobody can sign in unless check-every = \"never\""
        } else {
            ""
        };
        Ok(format!("{} answers{warning}", self.issuer()))
    }

    /// Where the browser is to go, to sign in.
    ///
    /// # Errors
    /// If the provider gives no answer.
    pub async fn begin(&self) -> Result<Begun, ProviderError> {
        let known = self.known().await?;
        let (challenge, verifier) = PkceCodeChallenge::new_random_sha256();
        let mut request = known
            .client
            .authorize_url(
                CoreAuthenticationFlow::AuthorizationCode,
                CsrfToken::new_random,
                Nonce::new_random,
            )
            .set_pkce_challenge(challenge);
        let offline = self.settings.looks_later.then_some(OFFLINE);
        let scopes = self.settings.scopes.iter().map(String::as_str);
        for scope in scopes.chain(offline) {
            request = request.add_scope(Scope::new(scope.to_owned()));
        }
        let (address, state, nonce) = request.url();
        Ok(Begun {
            address,
            state: state.into_secret(),
            nonce: nonce.secret().clone(),
            verifier: verifier.into_secret(),
        })
    }

    /// Changes the code that the browser came back with for who it is.
    ///
    /// # Errors
    /// If the provider refuses the code, or what it signed does not hold, is of another sign-in or
    /// says too little.
    pub async fn finish(
        &self,
        code: String,
        nonce: String,
        verifier: String,
    ) -> Result<LetIn, ProviderError> {
        let known = self.known().await?;
        let request = known
            .client
            .exchange_code(AuthorizationCode::new(code))
            .map_err(|error| self.unreachable(&error))?
            .set_pkce_verifier(PkceCodeVerifier::new(verifier));
        let http = self.http.sending();
        let tokens = request.request_async(&http).await;
        let tokens = tokens.map_err(|error| self.not_given(&error))?;
        let mut claims = Claims::default();
        let subject = self
            .signed(&known, &tokens, Some(Nonce::new(nonce)), &mut claims)
            .await?
            .ok_or_else(|| ProviderError::NotValid("there is no ID token in its answer".into()))?;
        let let_in = self.let_in(&known, &tokens, (subject, claims)).await?;
        if self.settings.looks_later && let_in.grant.is_none() {
            return Err(ProviderError::NoGrant);
        }
        Ok(let_in)
    }

    /// Looks whether somebody is still let in, and who they are now; nothing if they are not. The grant in
    /// the answer replaces the one that was given.
    ///
    /// # Errors
    /// If the provider gives no answer, or none that holds: that says nothing of them. The grant may have
    /// been used up all the same; the error has the next one then.
    pub async fn look_again(&self, grant: &str, subject: &str) -> Result<Option<LetIn>, NotLooked> {
        let known = self.known().await?;
        let refresh = RefreshToken::new(grant.to_owned());
        let request = known
            .client
            .exchange_refresh_token(&refresh)
            .map_err(|error| self.unreachable(&error))?;
        let http = self.http.sending();
        let tokens = match request.request_async(&http).await {
            Ok(tokens) => tokens,
            // The grant has ended, was withdrawn, or its person is gone (RFC 6749, 5.2).
            Err(RequestTokenError::ServerResponse(answer))
                if *answer.error() == CoreErrorResponseType::InvalidGrant =>
            {
                return Ok(None);
            }
            Err(error) => return Err(self.not_given(&error).into()),
        };
        let looked = self.still_in(&known, &tokens, subject).await;
        let mut let_in = looked.map_err(|error| NotLooked {
            error,
            grant: tokens.refresh_token().map(|token| token.secret().clone()),
        })?;
        // A provider that gives no other leaves the one that was used good (RFC 6749, 6).
        let_in.grant.get_or_insert_with(|| grant.to_owned());
        Ok(Some(let_in))
    }

    /// Who somebody is now, by the tokens that were given for their grant.
    async fn still_in(
        &self,
        known: &Discovered,
        tokens: &Tokens,
        subject: &str,
    ) -> Result<LetIn, ProviderError> {
        let mut claims = Claims::default();
        let signed = self.signed(known, tokens, None, &mut claims).await?;
        let same = SubjectIdentifier::new(subject.to_owned());
        if signed.is_some_and(|signed| signed != same) {
            return Err(ProviderError::NotValid(
                "it speaks of somebody else".to_owned(),
            ));
        }
        self.let_in(known, tokens, (same, claims)).await
    }

    /// Where the browser is to go to sign out there, too (RP-Initiated Logout 1.0); nothing if the
    /// provider has no such place. `back` is where it comes back to.
    pub async fn sign_out(&self, back: &str) -> Option<Url> {
        let known = self.known().await.ok()?;
        let mut address = known.sign_out?;
        address
            .query_pairs_mut()
            .append_pair("client_id", &self.settings.client)
            .append_pair("post_logout_redirect_uri", back);
        Some(address)
    }

    /// Whose the signed token is, if there is one, and what it says of them.
    async fn signed(
        &self,
        known: &Discovered,
        tokens: &Tokens,
        nonce: Option<Nonce>,
        claims: &mut Claims,
    ) -> Result<Option<SubjectIdentifier>, ProviderError> {
        let Some(token) = tokens.id_token() else {
            return Ok(None);
        };
        let same = |given: Option<&Nonce>| match (&nonce, given) {
            (Some(own), Some(given)) if own.secret() == given.secret() => Ok(()),
            // Tokens that come later need none (OpenID Connect Core 1.0, 12.2).
            (None, _) => Ok(()),
            _ => Err("it is of another sign-in".to_owned()),
        };
        let verified = match token.claims(&known.client.id_token_verifier(), same) {
            // Its keys may have changed since it was asked for them.
            Err(ClaimsVerificationError::SignatureVerification(_)) => {
                let anew = self.discover().await?;
                token
                    .claims(&anew.client.id_token_verifier(), same)
                    .cloned()
            }
            other => other.cloned(),
        };
        let verified = verified.map_err(|error| ProviderError::NotValid(in_words(&error)))?;
        claims.add(&verified);
        Ok(Some(verified.subject().clone()))
    }

    /// Who it is; what the token does not say is asked for.
    async fn let_in(
        &self,
        known: &Discovered,
        tokens: &Tokens,
        (subject, mut claims): (SubjectIdentifier, Claims),
    ) -> Result<LetIn, ProviderError> {
        let settings = &self.settings;
        let wanted = [&settings.name, &settings.mail, &settings.groups];
        if !wanted.into_iter().all(|name| claims.has(name)) {
            let access = tokens.access_token().clone();
            if let Some(more) = self.asked(known, access, subject.clone()).await? {
                claims.add(&more);
            }
        }
        Ok(LetIn {
            person: claims.person(&subject, settings)?,
            grant: tokens.refresh_token().map(|token| token.secret().clone()),
        })
    }

    /// What the provider says of somebody when it is asked, if it can be.
    async fn asked(
        &self,
        known: &Discovered,
        access: AccessToken,
        subject: SubjectIdentifier,
    ) -> Result<Option<UserInfoClaims<Rest, CoreGenderClaim>>, ProviderError> {
        let Ok(request) = known.client.user_info(access, Some(subject)) else {
            return Ok(None);
        };
        let http = self.http.sending();
        let answer = request.request_async(&http).await;
        answer.map(Some).map_err(|error| self.unreachable(&error))
    }

    async fn known(&self) -> Result<Discovered, ProviderError> {
        let kept = self
            .known
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
            .clone();
        match kept {
            Some((at, known)) if at.elapsed() < KNOWN_FOR => Ok(known),
            _ => self.discover().await,
        }
    }

    /// Asks the provider what it is and for its keys (OpenID Connect Discovery 1.0).
    async fn discover(&self) -> Result<Discovered, ProviderError> {
        let settings = &self.settings;
        let address = |error: url::ParseError| ProviderError::Address {
            address: settings.issuer.clone(),
            words: error.to_string(),
        };
        let issuer = IssuerUrl::new(settings.issuer.clone()).map_err(address)?;
        let back = RedirectUrl::new(settings.back.clone()).map_err(address)?;
        let http = self.http.sending();
        let about = ProviderMetadataWithLogout::discover_async(issuer, &http).await;
        let about = about.map_err(|error| self.unreachable(&error))?;
        let ways = about.token_endpoint_auth_methods_supported();
        // Without a word on it, a client shows its secret in a header (Discovery 1.0, 3).
        let in_header =
            ways.is_none_or(|ways| ways.contains(&CoreClientAuthMethod::ClientSecretBasic));
        let sign_out = about.additional_metadata().end_session_endpoint.as_ref();
        let sign_out = sign_out.map(|address| address.url().clone());
        let offline = Scope::new(OFFLINE.to_owned());
        let offers_offline = about
            .scopes_supported()
            .is_none_or(|scopes| scopes.contains(&offline));
        let client = Known::from_provider_metadata(
            about,
            ClientId::new(settings.client.clone()),
            settings.secret.clone().map(ClientSecret::new),
        );
        let client = client.set_redirect_uri(back).set_auth_type(if in_header {
            AuthType::BasicAuth
        } else {
            AuthType::RequestBody
        });
        let discovered = Discovered {
            client,
            sign_out,
            offers_offline,
        };
        *self.known.lock().unwrap_or_else(PoisonError::into_inner) =
            Some((Instant::now(), discovered.clone()));
        Ok(discovered)
    }

    fn unreachable(&self, error: &dyn std::error::Error) -> ProviderError {
        ProviderError::Unreachable {
            issuer: self.settings.issuer.clone(),
            words: in_words(error),
        }
    }

    fn not_given(
        &self,
        error: &RequestTokenError<RequestError, StandardErrorResponse<CoreErrorResponseType>>,
    ) -> ProviderError {
        match error {
            RequestTokenError::ServerResponse(answer) => ProviderError::Refused(answer.to_string()),
            // What it sent instead may hold tokens.
            RequestTokenError::Parse(..) => {
                ProviderError::NotValid("its answer is none that gives a token".to_owned())
            }
            other => self.unreachable(other),
        }
    }
}
