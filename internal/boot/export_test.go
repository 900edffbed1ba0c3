package boot

// LoadCertificate reads the files of the gate's certificate now.
func (h *House) LoadCertificate() error {
	h.certificate.mu.Lock()
	defer h.certificate.mu.Unlock()
	return h.certificate.load()
}

// Problem is what keeps the configuration from holding.
func (h *House) Problem() string { return h.settings.tell().Problem }
