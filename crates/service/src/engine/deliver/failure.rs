//! Why a delivery was not carried: the records failed, or the other side did.

use maple_lark_delivery::DeliveryError;
use maple_lark_store::StoreError;

use crate::engine::shared::WorkError;

pub enum Failure {
    Store(StoreError),
    Delivery(DeliveryError),
    /// The service stopped before anything was handed over.
    Stopped,
}

impl From<WorkError> for Failure {
    fn from(error: WorkError) -> Self {
        match error {
            WorkError::Store(error) => Failure::Store(error),
            WorkError::Run(words) => Failure::Delivery(DeliveryError::Message { words }),
        }
    }
}

impl From<StoreError> for Failure {
    fn from(error: StoreError) -> Self {
        Failure::Store(error)
    }
}

impl From<DeliveryError> for Failure {
    fn from(error: DeliveryError) -> Self {
        Failure::Delivery(error)
    }
}
