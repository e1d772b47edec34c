/// <reference types="vite/client" />

/** Where the built worker of the device lies, from the page. */
declare const deviceWorker: string
