" Vim syntax of descriptions of formats (*.layout). A test compares its words with those of the program.
if exists("b:current_syntax")
  finish
endif

syntax keyword layoutStatement layout suffix about order encoding names record define entry require expect fact check 
syntax keyword layoutStatement region let skip align seek when within else 
syntax keyword layoutModifier at in until while within to end padded encoded sized word for 
syntax keyword layoutModifier where when else if then choose from number by of little big 
syntax keyword layoutModifier otherwise hex 
syntax keyword layoutType u8 u16 u24 u32 u40 u48 u56 u64 i8 i16 i24 i32 
syntax keyword layoutType i40 i48 i56 i64 u16le u24le u32le u40le u48le u56le u64le i16le 
syntax keyword layoutType i24le i32le i40le i48le i56le i64le u16be u24be u32be u40be u48be u56be 
syntax keyword layoutType u64be i16be i24be i32be i40be i48be i56be i64be leb128 sleb128 vlq decimal 
syntax keyword layoutType octal hexadecimal text bytes bits 
syntax keyword layoutRole path data size time created accessed mode crc32 comment kind folder link 
syntax keyword layoutRole encrypted also stored 
syntax keyword layoutLoop first last any all count sum least most each join chain tree fold scan 
syntax keyword layoutFunction min max align length number zeros le16 le32 le64 be16 be32 be64 
syntax keyword layoutFunction concat lists unhex bit_field hex raw hash checksum crc32 md5 sha1 sha256 text lower trim replace slashes before after 
syntax keyword layoutFunction starts ends ending find find_last file file_size file_name file_stem unix unix_ms filetime 
syntax keyword layoutFunction dos since bytes rest part offset_of end_of exists known key trail next_of 
syntax keyword layoutFunction above range cut parent sibling 
syntax keyword layoutCodec stored take deflate deflate64 zlib gzip bzip2 xz lzma_alone lzma zstd lz4 
syntax keyword layoutCodec lz4_block lzo compress lzss lzw lzhuf shrink reduce implode dcl_implode nrv quantum lzx xpress lznt1 lzfse lzvn adc brotli missing lzh rle xor add subtract rotate lcg rc4 
syntax keyword layoutCodec tea xtea blowfish des aes aes_xts 
syntax keyword layoutConstant true false nothing here start left it 
syntax keyword layoutOperator and or not xor bitand bitor 

syntax match layoutRecord "\<[A-Z][A-Za-z0-9_]*\>"
syntax match layoutNumber "\<\(0x[0-9a-fA-F_]\+\|0o[0-7_]\+\|0b[01_]\+\|[0-9][0-9_]*\)\>"
syntax match layoutEscape contained "\\\(x[0-9a-fA-F]\{2}\|u{[0-9a-fA-F]\+}\|[nrt0e\\"]\)"
syntax region layoutPart contained start="{" end="}" contains=layoutFunction,layoutRecord,layoutNumber
syntax region layoutString start=+"+ skip=+\\.+ end=+"+ oneline contains=layoutEscape,layoutPart
syntax match layoutComment "#.*$" contains=@Spell

highlight default link layoutStatement Statement
highlight default link layoutModifier Keyword
highlight default link layoutType Type
highlight default link layoutRole Identifier
highlight default link layoutLoop Repeat
highlight default link layoutFunction Function
highlight default link layoutCodec Special
highlight default link layoutConstant Constant
highlight default link layoutOperator Operator
highlight default link layoutRecord Structure
highlight default link layoutNumber Number
highlight default link layoutEscape SpecialChar
highlight default link layoutPart PreProc
highlight default link layoutString String
highlight default link layoutComment Comment

let b:current_syntax = "operculum-layout"
