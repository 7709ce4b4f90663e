/** Numbers as the console writes them. */
export const number = (n: number) => n.toLocaleString('en')
export const count = (n: number, noun: string) => `${number(n)} ${noun}${n === 1 ? '' : 's'}`
/** Milliseconds, by three digits. */
export const time = (ms: number) => `${ms < 10 ? ms.toFixed(2) : ms < 100 ? ms.toFixed(1) : Math.round(ms)} ms`
export const bytes = (n: number) => (n < 1024 ? `${Math.round(n)} B` : n < 1 << 20 ? `${(n / 1024).toFixed(1)} KB` : `${(n / (1 << 20)).toFixed(1)} MB`)
