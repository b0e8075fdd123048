"""One page about a plan: its contents are gathered in `pages`, its look is in `page.html`."""
