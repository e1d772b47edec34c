// What one person on a device keeps from the others: sealed with the platform's own cryptography (Web Crypto). HPKE is
// RFC 9180, base mode, with DHKEM(X25519, HKDF-SHA256), HKDF-SHA256 and AES-256-GCM.
import { Aes256Gcm, CipherSuite, DhkemX25519HkdfSha256, HkdfSha256 } from "@hpke/core";

const suite = new CipherSuite({
  kem: new DhkemX25519HkdfSha256(),
  kdf: new HkdfSha256(),
  aead: new Aes256Gcm(),
});

/** The info of a change that is sealed for central. */
export const changeInfo = "homing/1 change";
/** The info of what is sealed for the people of a device. */
export const asideInfo = "homing put aside";

const keyBytes = 32; // of each part of a key pair, and of what encapsulates one
const nonceBytes = 12;
/** What OWASP asks of PBKDF2 with SHA-512 (2023). */
const rounds = 210_000;

type Bytes = Uint8Array<ArrayBuffer>;

export const utf8 = (text: string): Bytes => new TextEncoder().encode(text);

export function base64(bytes: Uint8Array): string {
  let text = "";
  for (const byte of bytes) {
    text += String.fromCharCode(byte);
  }
  return btoa(text);
}

export function bytesOf64(text: string): Bytes {
  return Uint8Array.from(atob(text), (c) => c.charCodeAt(0));
}

/** Seals a text for whoever has the private part of a key: what encapsulates the key, and behind it the ciphertext. */
export async function sealFor(key: string, info: string, text: string): Promise<string> {
  const recipientPublicKey = await suite.kem.deserializePublicKey(bytesOf64(key).buffer);
  const { enc, ct } = await suite.seal({ recipientPublicKey, info: utf8(info).buffer }, utf8(text).buffer);
  return base64(new Uint8Array([...new Uint8Array(enc), ...new Uint8Array(ct)]));
}

/** Opens what was sealed with the same info; nothing where it was sealed for another key. */
export async function openSealed(key: CryptoKey, info: string, sealed: string): Promise<string | undefined> {
  const bytes = bytesOf64(sealed);
  try {
    const enc = bytes.slice(0, keyBytes).buffer;
    const text = await suite.open({ recipientKey: key, enc, info: utf8(info).buffer }, bytes.slice(keyBytes).buffer);
    return new TextDecoder().decode(text);
  } catch {
    return undefined;
  }
}

/** A PIN or password with what follows from it. */
export interface Secret {
  text: string;
  salt: string;
  /** Is stored, to know the secret by. */
  proof: string;
  /** Is not: it locks up private keys. */
  lock: Bytes;
}

async function derive(text: string, salt: string): Promise<Secret> {
  const key = await crypto.subtle.importKey("raw", utf8(text), "PBKDF2", false, ["deriveBits"]);
  const how = { name: "PBKDF2", hash: "SHA-512", salt: bytesOf64(salt), iterations: rounds };
  const both = new Uint8Array(await crypto.subtle.deriveBits(how, key, 8 * 2 * keyBytes));
  return { text, salt, proof: base64(both.slice(0, keyBytes)), lock: both.slice(keyBytes) };
}

/** Gives a PIN or password a salt of its own. */
export function newSecret(text: string): Promise<Secret> {
  return derive(text, base64(crypto.getRandomValues(new Uint8Array(16))));
}

/** What is kept of a secret. */
export const storedSecret = ({ salt, proof }: Secret): string => `${salt} ${proof}`;

/** Gives the secret if it is the one of which something is stored. */
export async function recognise(stored: string, text: string): Promise<Secret | undefined> {
  const [salt = "", proof = ""] = stored.split(" ");
  const secret = await derive(text, salt);
  let differs = secret.proof.length ^ proof.length;
  for (let n = 0; n < proof.length; n++) {
    differs |= proof.charCodeAt(n) ^ secret.proof.charCodeAt(n); // however much of it is right, it takes as long
  }
  return differs === 0 ? secret : undefined;
}

/** A pair of keys of a worker. Whoever lacks their PIN or password has no use for the private part. */
export interface Pair {
  public: string;
  /** None: they had no PIN or password yet, and the private part lies open. */
  salt?: string;
  private: string;
}

/** Makes a pair of keys that a secret opens; no secret leaves it open. */
export async function newPair(secret?: Secret): Promise<Pair> {
  const { publicKey, privateKey } = await suite.kem.generateKeyPair();
  const shown = base64(new Uint8Array(await suite.kem.serializePublicKey(publicKey)));
  return lockUp(shown, new Uint8Array(await suite.kem.serializePrivateKey(privateKey)), secret);
}

async function lockUp(shown: string, open: Bytes, secret?: Secret): Promise<Pair> {
  if (!secret) {
    return { public: shown, private: base64(open) };
  }
  const iv = crypto.getRandomValues(new Uint8Array(nonceBytes));
  const how = { name: "AES-GCM", iv, additionalData: utf8(shown) };
  const locked = new Uint8Array(await crypto.subtle.encrypt(how, await lockOf(secret), open));
  return { public: shown, salt: secret.salt, private: base64(new Uint8Array([...iv, ...locked])) };
}

function lockOf({ lock }: Secret): Promise<CryptoKey> {
  return crypto.subtle.importKey("raw", lock, "AES-GCM", false, ["encrypt", "decrypt"]);
}

/** The private part of a pair, or nothing where the secret is not the one that it was locked up with. */
async function unlock(pair: Pair, secret: Secret | undefined): Promise<Bytes | undefined> {
  const bytes = bytesOf64(pair.private);
  if (pair.salt === undefined) {
    return bytes;
  }
  if (!secret) {
    return undefined;
  }
  // It may be of an earlier secret, which may have been the same.
  const own = pair.salt === secret.salt ? secret : await derive(secret.text, pair.salt);
  const how = { name: "AES-GCM", iv: bytes.slice(0, nonceBytes), additionalData: utf8(pair.public) };
  try {
    return new Uint8Array(await crypto.subtle.decrypt(how, await lockOf(own), bytes.slice(nonceBytes)));
  } catch {
    return undefined;
  }
}

/** The private keys that a secret opens. */
export async function openAll(pairs: Pair[], secret: Secret | undefined): Promise<CryptoKey[]> {
  const keys: CryptoKey[] = [];
  for (const pair of pairs) {
    const open = await unlock(pair, secret);
    if (open) {
      keys.push(await suite.kem.deserializePrivateKey(open.buffer));
    }
  }
  return keys;
}

/** Lets a new secret open what the old one opened, and gives a first pair to whoever has none. */
export async function relock(pairs: Pair[], old: Secret | undefined, now: Secret): Promise<Pair[]> {
  const all: Pair[] = [];
  for (const pair of pairs) {
    const open = await unlock(pair, old);
    all.push(open ? await lockUp(pair.public, open, now) : pair); // of an earlier secret still
  }
  return all.length > 0 ? all : [await newPair(now)];
}
