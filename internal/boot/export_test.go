package boot

// LoadCertificate reads the files of the gate's certificate now.
func (app *App) LoadCertificate() error {
	app.certificate.mu.Lock()
	defer app.certificate.mu.Unlock()
	return app.certificate.load()
}

// Problem is what keeps the configuration from holding.
func (app *App) Problem() string { return app.settings.tell().Problem }
