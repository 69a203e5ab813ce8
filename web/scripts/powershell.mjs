// Reads scripts for PowerShell, a JSON array on standard input, by a parser of the language's grammar, and says of each whether it is one,
// which commands and methods it names, and how many literals stand in it. For tests.
import { createRequire } from 'node:module'
import { text } from 'node:stream/consumers'

const require = createRequire(import.meta.url)
const { Parser, Language } = require('@vscode/tree-sitter-wasm')
await Parser.init()
const parser = new Parser()
parser.setLanguage(await Language.load(require.resolve('@vscode/tree-sitter-wasm/wasm/tree-sitter-powershell.wasm')))

const read = (script) => {
  const root = parser.parse(script).rootNode
  const all = (kind) => root.descendantsOfType(kind).map((n) => n.text)
  return {
    error: root.hasError,
    commands: [...new Set(all('command_name'))].sort(),
    methods: [...new Set(all('member_name'))].sort(),
    literals: all('verbatim_string_characters').length,
    expanded: all('expandable_string_literal').length,
  }
}
process.stdout.write(JSON.stringify(JSON.parse(await text(process.stdin)).map(read)))
