/** An address as a number with its length in bits; undefined if it is none. */
function parse(text: string): { value: bigint; bits: number } | undefined {
  if (/^\d+(\.\d+){3}$/.test(text)) return { value: text.split('.').reduce((n, part) => n * 256n + BigInt(part), 0n), bits: 32 }
  if (!text.includes(':')) return undefined
  const [head, tail] = text.split('::')
  const left = head ? head.split(':') : []
  const right = tail ? tail.split(':') : []
  if (tail === undefined ? left.length !== 8 : left.length + right.length > 7) return undefined
  const all = tail === undefined ? left : [...left, ...Array<string>(8 - left.length - right.length).fill('0'), ...right]
  return { value: all.reduce((n, part) => n * 65536n + BigInt('0x' + part), 0n), bits: 128 }
}

/** Whether a prefix holds an address. */
export function holds(prefix: string, address: string): boolean {
  const [base, length] = prefix.split('/')
  const p = parse(base)
  const a = parse(address)
  if (!p || !a || p.bits !== a.bits) return false
  const shift = BigInt(p.bits - Number(length))
  return p.value >> shift === a.value >> shift
}
