//! A device's own imaging settings, by its imaging service.

use crate::device::{Device, DeviceError};
use lattice_core::SourceUrl;
use lattice_core::onvif::{self, IMAGING_NAMESPACE, ImagingOptions, ImagingSettings, Profile};

/// What a camera is set to, and what it can be set to.
#[derive(Debug, Clone, PartialEq)]
pub struct Imaging {
    service: SourceUrl,
    source: String,
    /// What it is set to.
    pub settings: ImagingSettings,
    /// What it can be set to.
    pub options: ImagingOptions,
}

impl Imaging {
    /// What the imaging service at this address told of a video source.
    #[must_use]
    pub const fn new(service: SourceUrl, source: String, settings: ImagingSettings, options: ImagingOptions) -> Self {
        Self { service, source, settings, options }
    }
}

impl Device {
    /// What the camera behind its first profile is set to; `None` where the device has no imaging service.
    ///
    /// # Errors
    /// [`DeviceError`].
    pub async fn imaging(&self) -> Result<Option<Imaging>, DeviceError> {
        let services = self.services().await;
        let Some(service) = services.iter().find(|service| service.namespace == IMAGING_NAMESPACE) else { return Ok(None) };
        let service = self.on_this_host(&service.address);
        let (version, media) = self.media().await?;
        let profiles = Profile::read(&self.ask(&media, &onvif::get_profiles(version), self.is_signed()).await?);
        let Some(source) = profiles.into_iter().find_map(|profile| profile.source) else { return Ok(None) };
        let settings = self.ask(&service, &onvif::get_imaging_settings(&source), self.is_signed()).await?;
        let options = self.ask(&service, &onvif::get_imaging_options(&source), self.is_signed()).await?;
        let (settings, options) = (onvif::read_imaging_settings(&settings), onvif::read_imaging_options(&options));
        Ok(Some(Imaging::new(service, source, settings, options)))
    }

    /// Sets a camera to this; what is as wanted already is not sent. Gives what it says it is set to then.
    ///
    /// # Errors
    /// [`DeviceError`]; some devices take a part before they refuse the rest.
    pub async fn set_imaging(&self, now: &Imaging, wanted: &ImagingSettings) -> Result<ImagingSettings, DeviceError> {
        let changes = onvif::imaging_changes(&now.settings, wanted);
        if !changes.is_empty() {
            self.ask(&now.service, &onvif::set_imaging_settings(&now.source, &changes), self.is_signed()).await?;
        }
        let answer = self.ask(&now.service, &onvif::get_imaging_settings(&now.source), self.is_signed()).await?;
        Ok(onvif::read_imaging_settings(&answer))
    }
}
