// What each station's page shows, as plain values. Everything is computed here or in core; pages only draw.

export const RUNNING = { off: 'switched off', system: 'running its own system', stick: 'running from the rescue stick' }
