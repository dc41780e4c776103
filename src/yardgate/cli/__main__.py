from yardgate.cli.main import main

main()
