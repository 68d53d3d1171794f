autocmd BufRead,BufNewFile *.layout setfiletype operculum-layout
